import fc from 'fast-check';
import { expect, it } from 'vitest';
import { wordsAsked, wordsOfText } from '../../src/core/journal/words.ts';

const TEXT = 'Ana@mail.Shop.example <m-77$x@shop.example>, Re: “Mañana” 2001:db8::25 GRÜẞE. 発注書';
const words = wordsOfText(TEXT);

/** As the index answers: every word asked for is there, from its beginning unless it stands alone. */
const finds = (search: string): boolean =>
  (wordsAsked(search) ?? '').split(' ').every((one) => {
    const word = one.replace(/^"|"\*?$/g, '');
    return one.endsWith('*') ? words.some((other) => other.startsWith(word)) : words.includes(word);
  });

it.each([
  'ana',
  'ana@mail.shop.example',
  'ANA@mail',
  'mail.shop.example',
  '@shop.example',
  'shop.example',
  'shop',
  '<m-77$x@shop.example>',
  'm-77',
  '77',
  'manana',
  'mañ',
  'Re: Mañana',
  '2001:db8::25',
  '2001:db8',
  'grüße',
  '発注書',
  'shop ana',
])('%s finds it', (search) => expect(finds(search)).toBe(true));

it.each(['ana2', 'an', 'hop.example', 'ana@shop.example.org', 'shop banana'])('%s does not', (search) => expect(finds(search)).toBe(false));

it.each(['', '  ', '%', '_"', '“…”', '@.-', '\u0000'])('%j is no word', (search) => expect(wordsAsked(search)).toBeNull());

it('whatever is written, its own words find it, and no question breaks out of its quotes', () => {
  fc.assert(
    fc.property(fc.string({ unit: 'grapheme', maxLength: 60 }), (text) => {
      const asked = wordsAsked(text);
      expect(asked === null || /^(?:"[^"\s]+"\*? ?)+$/u.test(asked)).toBe(true);
      const own = wordsOfText(text);
      for (const one of asked?.split(' ') ?? []) expect(own).toContain(one.replace(/^"|"\*?$/g, ''));
    }),
  );
});
