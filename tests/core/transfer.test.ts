import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { ANSWERED, DELETED, SEEN } from '../../src/core/mailbox/flags.ts';
import { folderName } from '../../src/core/mailbox/folder-names.ts';
import { nameHere } from '../../src/core/transfer/folder-name.ts';
import { type MboxItem, MboxReader, mboxEntry, NotMbox } from '../../src/core/transfer/mbox.ts';
import { folderPath, safeName } from '../../src/core/transfer/paths.ts';
import { senderOf, splitReturnPath } from '../../src/core/transfer/return-path.ts';
import { statusFlags } from '../../src/core/transfer/status-flags.ts';

const AT = Date.UTC(2026, 10, 27, 12, 5, 31);

/** What an mbox holds, read in pieces of that many octets. */
function read(mbox: Buffer, pieces: number, most = 1e6): MboxItem[] {
  const reader = new MboxReader(most);
  const found: MboxItem[] = [];
  for (let at = 0; at < mbox.length; at += pieces) found.push(...reader.push(mbox.subarray(at, at + pieces)));
  return [...found, ...reader.end()];
}
const texts = (found: MboxItem[]): string[] => found.map((one) => (one.kind === 'message' ? one.text.toString('latin1') : one.kind));

describe('an mbox (RFC 4155)', () => {
  it('is written with separator, quoting and an empty line, and read again as it was', () => {
    const text = 'Subject: hi\r\n\r\nFrom here on\r\n>From there\r\n\r\nFrom me 12:00 again\r\n';
    const entry = mboxEntry(Buffer.from(text), 'ana@shop.example', AT);
    expect(entry.toString()).toBe(
      'From ana@shop.example Fri Nov 27 12:05:31 2026\nSubject: hi\n\n>From here on\n>>From there\n\n>From me 12:00 again\n\n',
    );
    expect(read(entry, 7)).toEqual([{ kind: 'message', text: Buffer.from(text), at: AT }]);
  });

  it('comes to the same wherever it is cut, for any messages', () => {
    const line = fc.oneof(
      fc.constantFrom('', 'From ', 'From x 12:00', '>From y 1:23', '>>From ', 'Subject: x', '\r', '\u00e9'.repeat(3)),
      fc.string({ maxLength: 30 }).map((one) => one.replace(/[\r\n]/g, ' ')),
    );
    const message = fc.array(line, { minLength: 1, maxLength: 8 }).map((lines) => `${lines.join('\r\n')}\r\n`);
    fc.assert(
      fc.property(fc.array(message, { minLength: 1, maxLength: 5 }), fc.integer({ min: 1, max: 60 }), (all, pieces) => {
        const octets = all.map((one) =>
          Buffer.from(one)
            .toString('latin1')
            .replace(/\r(?!\n)/g, '-'),
        );
        const mbox = Buffer.concat(octets.map((one) => mboxEntry(Buffer.from(one, 'latin1'), '', AT)));
        expect(texts(read(mbox, pieces))).toEqual(octets);
      }),
    );
  });

  it('takes what others write: CRLF, zones, a missing last line, a line that only looks like a separator', () => {
    const mbox = Buffer.from(
      'From - Fri Nov 27 12:05:31 +0100 2026\r\nSubject: 1\r\n\r\nFrom Monday on at 10:30 in 2026\r\n\r\nFrom Fri 27 12:05\r\n\r\nFrom x@y.example Fri Nov 27 12:05 2026 -0030\r\nSubject: 2',
    );
    expect(read(mbox, 11)).toEqual([
      {
        kind: 'message',
        text: Buffer.from('Subject: 1\r\n\r\nFrom Monday on at 10:30 in 2026\r\n\r\nFrom Fri 27 12:05\r\n'),
        at: AT - 3_600_000,
      },
      { kind: 'message', text: Buffer.from('Subject: 2'), at: Date.UTC(2026, 10, 27, 12, 35) },
    ]);
  });

  it('passes over what is too large, and keeps nothing of it', () => {
    const small = mboxEntry(Buffer.from('Subject: small\r\n'), '', AT);
    const mbox = Buffer.concat([small, mboxEntry(Buffer.from(`Subject: big\r\n\r\n${'x'.repeat(5000)}\r\n`), '', AT), small]);
    for (const pieces of [1, 100, 100_000]) {
      const found = read(mbox, pieces, 1000);
      expect(found.map((one) => one.kind)).toEqual(['message', 'too-large', 'message']);
      expect(texts(found)[2]).toBe('Subject: small\r\n');
    }
  });

  it('is not what does not begin as one; nothing is nothing', () => {
    expect(read(Buffer.alloc(0), 1)).toEqual([]);
    for (const other of ['{"json": 1}\n', 'From', `no line end ${'x'.repeat(400)}`])
      expect(() => read(Buffer.from(other), 50)).toThrow(NotMbox);
  });
});

it('flags are read from Status and X-Status, in any order', () => {
  expect(statusFlags(Buffer.from('Status: RO\r\nX-Status: AD\r\n\r\nX-Status: F\r\n'))).toBe(SEEN | ANSWERED | DELETED);
  expect(statusFlags(Buffer.from('Subject: none\r\n\r\n'))).toBe(0);
});

it('names of folders become safe paths, and two never become one', () => {
  expect(folderPath('INBOX/Año 2026/a.mbox')).toBe('INBOX/Año 2026/a%2Embox');
  expect(safeName('..')).toBe('%2E%2E');
  expect(safeName('a/b\0c:*?"<>|\u202e')).not.toMatch(/[/\0:*?"<>|\u202e]/);
  expect(Buffer.byteLength(safeName('ü'.repeat(400)))).toBeLessThanOrEqual(255);
  fc.assert(
    fc.property(fc.string({ minLength: 1 }), fc.string({ minLength: 1 }), (one, other) => {
      if (one !== other) expect(safeName(one)).not.toBe(safeName(other));
      expect(safeName(one)).not.toMatch(/^\.|\/|\.$/);
    }),
  );
});

describe('the name that a folder from elsewhere has here', () => {
  it.each([
    ['Obras/Año 2025', 'Obras/Año 2025'],
    ['inbox/Alt', 'INBOX/Alt'],
    ['//a//b/', 'a/b'],
    ['Shared/leo@shop.example/INBOX', 'Shared folders/leo@shop.example/INBOX'],
    [`${'x'.repeat(180)}/${'y'.repeat(180)}`, `${'x'.repeat(180)}/${'y'.repeat(180)}`],
  ])('%j is %j', (name, here) => expect(nameHere(name)).toBe(here));

  it('can be here, whatever it was; two that differ stay two', () => {
    const part = fc.oneof(
      fc.string({ unit: 'binary' }),
      fc.constantFrom('a\tb', 'a\nb', 'x'.repeat(300), 'ü'.repeat(300), '/', '..', '\ud800'),
    );
    const name = fc.array(part, { maxLength: 40 }).map((parts) => parts.join('/'));
    const plain = (one: string): string => one.split('/').filter(Boolean).join('/').normalize('NFC');
    fc.assert(
      fc.property(name, name, (one, other) => {
        expect(folderName(nameHere(one))).toBe(nameHere(one));
        if (plain(one).toUpperCase() !== plain(other).toUpperCase()) expect(nameHere(one)).not.toBe(nameHere(other));
      }),
    );
    const long = 'x'.repeat(600);
    expect(nameHere(`${long}1`)).not.toBe(nameHere(`${long}2`));
  });
});

it('a Return-Path is parted from the text, and only there', () => {
  const text = Buffer.from('Return-Path: <ana@shop.example>\r\nSubject: x\r\n');
  const { prefix, text: rest } = splitReturnPath(text);
  expect([prefix, rest.toString(), senderOf(prefix)]).toEqual([
    'Return-Path: <ana@shop.example>\r\n',
    'Subject: x\r\n',
    'ana@shop.example',
  ]);
  const wide = Buffer.from('Return-Path: <zoë@año.example>\r\nSubject: x\r\n');
  expect(Buffer.concat([Buffer.from(splitReturnPath(wide).prefix), splitReturnPath(wide).text])).toEqual(wide);
  expect(splitReturnPath(Buffer.from('Return-Path: <zo\xeb@a.example>\r\nSubject: x\r\n', 'latin1')).prefix).toBe('');
  expect(splitReturnPath(Buffer.from('Subject: x\r\nReturn-Path: <a@b.example>\r\n')).prefix).toBe('');
});
