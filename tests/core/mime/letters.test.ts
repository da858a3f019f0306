import fc from 'fast-check';
import { expect, it } from 'vitest';
import { canBeRead, MOST_AT_ONCE, searchable } from '../../../src/core/mime/letters.ts';
import { outlineOf } from '../../../src/core/mime/outline.ts';
import { decoded, decodedWords, transferDecoded } from '../../../src/core/mime/words.ts';

const ENCODINGS = {
  '8bit': (text: Buffer) => text.toString('latin1'),
  base64: (text: Buffer) => text.toString('base64').replace(/(.{76})/g, '$1\r\n'),
  // One line without an end, so that pieces are cut anywhere.
  'quoted-printable': (text: Buffer) =>
    text.toString('latin1').replace(/[^ -<>-~]/g, (one) => `=${one.charCodeAt(0).toString(16).padStart(2, '0').toUpperCase()}`),
};

/** What is looked for, at some place of a text that is longer than is read at once. */
const aLongText = fc.record({
  encoding: fc.constantFrom('8bit', 'base64', 'quoted-printable') as fc.Arbitrary<keyof typeof ENCODINGS>,
  charset: fc.constantFrom('utf-8', 'iso-8859-1'),
  filling: fc.constantFrom('words and words ', 'größer als üblich\r\n', 'a=b, c; \t\r\n', 'e\u0301té '),
  // Most often about where a piece ends.
  place: fc.oneof(
    fc.integer({ min: -60, max: 60 }).map((off) => MOST_AT_ONCE + off),
    fc.integer({ min: 0, max: 2 * MOST_AT_ONCE }),
  ),
  what: fc.constantFrom('lighthouse', 'leuchttürme', 'été bleu', 'x'),
});

it('what is looked for in a long text is found wherever it lies, and nothing else is, in pieces', async () => {
  await fc.assert(
    fc.asyncProperty(aLongText, async ({ encoding, charset, filling, place, what }) => {
      const rest = filling.repeat(Math.ceil((2 * MOST_AT_ONCE) / filling.length));
      const text = Buffer.from(`${rest.slice(0, place)}${what.toUpperCase()}${rest.slice(place)}`, charset === 'utf-8' ? 'utf8' : 'latin1');
      const head = `Content-Type: text/plain; charset=${charset}\r\nContent-Transfer-Encoding: ${encoding}\r\n\r\n`;
      const octets = Buffer.from(head + ENCODINGS[encoding](text), 'latin1');
      const { parts } = outlineOf(octets);
      const whole = searchable(decoded(transferDecoded(octets.subarray(parts.bodyStart, parts.end), encoding) ?? Buffer.alloc(0), charset));
      let pauses = 0;
      const pause = async (): Promise<void> => {
        pauses += 1;
      };
      for (const one of [what, `${what} not`]) {
        const asked = searchable(one);
        expect(await canBeRead(asked, { octets, part: parts, inHeader: false }, pause)).toBe(whole.includes(asked));
      }
      expect(pauses).toBeGreaterThan(4);
    }),
    { numRuns: 60 },
  );
});

it('headers of an enclosed message, however long, are read field by field', async () => {
  const field = (at: number): string => `X-Field-${at}: ${'=?utf-8?q?gr=C3=BC=C3=9Fe?= '.repeat(20)}\r\n more of it\r\n`;
  const inner = `${Array.from({ length: 2000 }, (_one, at) => field(at)).join('')}Subject: =?utf-8?q?Leuchtt=C3=BCrme?=\r\nX-One: ${'y'.repeat(2 * MOST_AT_ONCE)} end\r\n\r\nHello\r\n`;
  const octets = Buffer.from(`Content-Type: message/rfc822\r\n\r\n${inner}`);
  const { parts } = outlineOf(octets);
  let pauses = 0;
  const has = (what: string, inHeader = true): Promise<boolean> =>
    canBeRead(what, { octets, part: parts, inHeader }, async () => {
      pauses += 1;
    });
  expect(searchable(decodedWords(inner))).toContain('leuchttürme');
  expect(await has('leuchttürme')).toBe(true);
  expect(await has('x-field-1999: grüße')).toBe(true);
  expect(await has('yy end')).toBe(true);
  expect(await has('leuchtturm 7')).toBe(false);
  expect(pauses).toBeGreaterThan(4);
});
