import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { MultiLine } from '../../../src/core/message/multi-line.ts';
import { decodedWords } from '../../../src/core/mime/words.ts';
import { SHOWN_AT_ONCE, shownHeader } from '../../../src/core/pop3/shown-header.ts';
import { shownAs, shownMoreInSteps } from '../../../src/core/pop3/shown-size.ts';

const show = (text: string, as: { isUtf8?: boolean; isJunk?: boolean } = {}): string =>
  shownHeader(Buffer.from(text), { isUtf8: false, isJunk: false, ...as }).toString();

describe('a message as POP3 shows it', () => {
  it('letters beyond ASCII become encoded words for who did not ask for them (RFC 6856 §2, RFC 6858)', () => {
    const text = [
      'From: Ana Núñez <ana@shop.example>',
      'To: "Plain, Name" <li@far.example>, josé@correo.example',
      'Subject: Año',
      ' nuevo',
      'X-Plain:  kept as it is ',
      '',
      'Cuerpo: más',
      '',
    ].join('\r\n');
    const shown = show(text);
    const header = shown.slice(0, shown.indexOf('\r\n\r\n'));
    expect(Buffer.byteLength(header)).toBe(header.length);
    const lines = header.replace(/\r\n /g, ' ').split('\r\n');
    expect(lines.map(decodedWords)).toEqual([
      'From: Ana Núñez <ana@shop.example>',
      'To: "Plain, Name" <li@far.example>, josé@correo.example <invalid@internationalized-address.invalid>'.replace(
        '"Plain, Name"',
        '"Plain, Name"',
      ),
      'Subject: Año nuevo',
      'X-Plain:  kept as it is ',
    ]);
    // Its text stays to the octet.
    expect(shown.slice(shown.indexOf('\r\n\r\n'))).toBe('\r\n\r\nCuerpo: más\r\n');
    expect(show(text, { isUtf8: true })).toBe(text);
  });

  it('junk is marked in its subject, once, whatever its header is like', () => {
    expect(show('From: a@b.example\r\nSubject: Win\r\nSubject: Two\r\n\r\nSubject: x\r\n', { isJunk: true })).toBe(
      'From: a@b.example\r\nSubject: [Junk] Win\r\nSubject: Two\r\n\r\nSubject: x\r\n',
    );
    expect(show('SUBJECT :\r\n folded\r\n\r\n', { isJunk: true })).toBe('SUBJECT :[Junk] \r\n folded\r\n\r\n');
    for (const subject of ['Subject: a', 'Subject:a', 'Subject:\t  a', 'Subject:'])
      expect(show(`${subject}\r\n\r\nx`, { isJunk: true }), subject).toBe(
        `${subject.replace(/a?$/, '')}[Junk] ${/a?$/.exec(subject)}\r\n\r\nx`,
      );
    expect(show('From: a@b.example\r\n\r\nSubject: x', { isJunk: true })).toBe('Subject: [Junk]\r\nFrom: a@b.example\r\n\r\nSubject: x');
    expect(show('', { isJunk: true })).toBe('Subject: [Junk]\r\n');
    expect(show('Subject: ¡Gana!\r\n\r\n', { isJunk: true })).toMatch(/^Subject: =\?utf-8\?B\?W0p1bmtdIMKhR2FuYSE=\?=\r\n\r\n$/);
  });

  it('no octet beyond ASCII is left in any header, and nothing is lost of the text', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 200 }), fc.constantFrom('', 'Subject: x\r\n', 'From: ', 'To: a@b, '), (some, begin) => {
        const body = Buffer.from('\r\n\r\n\xc3\xb1 body\r\n', 'latin1');
        const head = Buffer.concat([Buffer.from(begin), Buffer.from(some).filter((octet) => octet !== 0x0a && octet !== 0x0d)]);
        const shown = shownHeader(Buffer.concat([head, body]), { isUtf8: false, isJunk: false });
        const end = shown.length - body.length;
        expect(shown.subarray(0, end).every((octet) => octet < 0x80)).toBe(true);
        expect(shown.subarray(end)).toEqual(body);
      }),
    );
  });

  it('sizes are those of what is sent (RFC 1939 §11), whatever the text is and whoever reads it', () => {
    const line = fc.constantFrom(
      'Subject: x',
      'Subject: Año',
      'To: "ü" <a@b.example>',
      '',
      '.',
      ' folded ñ',
      'text',
      '\r',
      'From: é@b.example',
    );
    const lines = fc.array(fc.tuple(line, fc.constantFrom('\r\n', '\n', '')), { maxLength: 12 });
    // What is sent in pieces: the beginning, and the rest.
    const filling = fc.constantFrom(0, 0, 0, SHOWN_AT_ONCE - 3, SHOWN_AT_ONCE - 1, SHOWN_AT_ONCE, SHOWN_AT_ONCE + 1);
    fc.assert(
      fc.property(lines, filling, lines, fc.boolean(), fc.boolean(), (header, filled, body, isUtf8, isJunk) => {
        const said = (all: typeof body): string => all.flat().join('');
        const text = Buffer.from(`${said(header)}${'ü\n'.repeat(filled).slice(0, filled)}${said(body)}`, 'latin1');
        const counting = shownMoreInSteps(text);
        let step = counting.next();
        while (!step.done) step = counting.next();
        const sent = new MultiLine(null, true);
        const first = text.subarray(0, SHOWN_AT_ONCE);
        const octets = Buffer.concat([
          sent.push(shownHeader(first, { isUtf8, isJunk })),
          sent.push(text.subarray(SHOWN_AT_ONCE)),
          sent.end(),
        ]).toString('latin1');
        // As a client reads it (§3).
        const received = octets.slice(0, -3).replace(/(^|\r\n)\.\./g, '$1.');
        expect(text.length + step.value[shownAs(isUtf8, isJunk)]).toBe(received.length);
      }),
      { numRuns: 300 },
    );
  });
});
