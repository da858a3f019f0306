import fc from 'fast-check';
import { expect, it } from 'vitest';
import { askedOf, finder, wordsAsked, wordsOfText } from '../../../src/core/journal/words.ts';

const TEXT = 'Ana@mail.Shop.example <m-77$x@shop.example>, Re: “Mañana” 2001:db8::25 GRÜẞE. 発注書';
const words = wordsOfText(TEXT);

/** The words on the first shelf that begin so, as the index gives them where they are at most so many. */
const begunBy =
  (most: number) =>
  (beginning: string): string[] | null => {
    const begun = words.map((one) => `000${one}`).filter((one) => one.startsWith(beginning));
    return begun.length > most ? null : begun;
  };

/** What the index answers to a question. */
const matches = (question: string | null): boolean => {
  if (question === null) return false;
  return question.split(' AND ').every((part) => {
    const [first = '', ...others] = part.replace(/^\(|\)$/g, '').split(' OR ');
    const begins = first.endsWith('*');
    return [first, ...others].some((one) => {
      const word = one.replace(/^"000|"\*?$/g, '');
      return words.some((other) => (begins ? other.startsWith(word) : other === word));
    });
  });
};

/** As the index answers, and what it leads to is compared. */
const finds = (search: string): boolean => {
  const asked = wordsAsked(search);
  if (asked === null) return false;
  const answers = finder(search)?.(TEXT) ?? false;
  for (const most of [0, 1, 9]) {
    const led = matches(askedOf(asked.words, 0, begunBy(most)));
    // The index leads to everything that answers; what it says to be exact needs no comparing.
    expect(led || !answers).toBe(true);
    if (asked.exact) expect(led).toBe(answers);
  }
  return answers;
};

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
  'mañana g',
  'mail.shop.exam',
  'm-77$x@shop.ex ana',
  '25 shop',
])('%s finds it', (search) => expect(finds(search)).toBe(true));

it.each([
  'ana2',
  'an',
  'an shop',
  'mañana h',
  'añana',
  'hop.example',
  'ana@shop.example.org',
  'shop banana',
  'mail.shop.exb',
  'shop.examples',
])('%s does not', (search) => expect(finds(search)).toBe(false));

it.each(['', '  ', '%', '_"', '“…”', '@.-', '\u0000'])('%j is no word', (search) => expect(wordsAsked(search)).toBeNull());

it('whatever is written, its own words find it, and no question breaks out of its quotes', () => {
  fc.assert(
    fc.property(fc.string({ unit: 'grapheme', maxLength: 60 }), (text) => {
      const asked = wordsAsked(text);
      const question = asked === null ? null : askedOf(asked.words, 35, (one) => [one, `${one}s`]);
      expect(question === null || /^(?:\(?"00z[^"\s]+"[*)]?(?: (?:AND|OR) |$))+$/u.test(question)).toBe(true);
      expect(asked === null || finder(text)?.(text)).toBe(true);
      const own = wordsOfText(text);
      for (const { word } of asked?.words ?? []) expect(own).toContain(word);
    }),
  );
});
