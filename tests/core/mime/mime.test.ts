import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { listedAddresses } from '../../../src/core/mime/addresses.ts';
import { readMailDate } from '../../../src/core/mime/date.ts';
import { fieldsOf } from '../../../src/core/mime/header.ts';
import { outlineInTurns, outlineOf } from '../../../src/core/mime/outline.ts';
import { continued, parameter, readParametrised } from '../../../src/core/mime/parameters.ts';
import { type Part, readMime } from '../../../src/core/mime/reader.ts';
import { type TransferDecoder, transferDecoder } from '../../../src/core/mime/transfer-decoder.ts';
import { decoded, decodedWords, transferDecoded } from '../../../src/core/mime/words.ts';

const crlf = (text: string): Buffer => Buffer.from(text.replace(/\r?\n/g, '\r\n'), 'latin1');

/** Types of a tree, by the texts that its leaves hold. */
const shape = (text: Buffer, part: Part): unknown =>
  part.children.length > 0
    ? { [`${part.type}/${part.subtype}`]: part.children.map((one) => shape(text, one)) }
    : part.message
      ? { message: shape(text, part.message) }
      : `${part.type}/${part.subtype}: ${text.toString('latin1', part.bodyStart, part.end)}`;
const shapeOf = (written: string): unknown => {
  const text = crlf(written);
  return shape(text, readMime(text));
};

describe('structure', () => {
  it('the example of RFC 2046 §5.1.1: with a preamble, an implicit type, and an epilogue', () => {
    expect(
      shapeOf(`From: Nathaniel <n@bell.example>
MIME-Version: 1.0
Content-type: multipart/mixed; boundary="simple boundary"

This is the preamble.
--simple boundary

This is implicitly typed plain US-ASCII text.
It does NOT end with a linebreak.
--simple boundary
Content-type: text/plain; charset=us-ascii

This is explicitly typed.
It DOES end with a linebreak.

--simple boundary--

This is the epilogue.`),
    ).toEqual({
      'multipart/mixed': [
        'text/plain: This is implicitly typed plain US-ASCII text.\r\nIt does NOT end with a linebreak.',
        'text/plain: This is explicitly typed.\r\nIt DOES end with a linebreak.\r\n',
      ],
    });
  });

  it.each([
    [
      'a boundary that is never closed',
      'Content-Type: multipart/mixed; boundary=b\n\n--b\n\none\n--b\n\ntwo',
      { 'multipart/mixed': ['text/plain: one', 'text/plain: two'] },
    ],
    [
      'an outer boundary ends what is inside',
      'Content-Type: multipart/mixed; boundary=o\n\n--o\nContent-Type: multipart/alternative; boundary=i\n\n--i\n\nin\n--o\n\nout\n--o--\n',
      { 'multipart/mixed': [{ 'multipart/alternative': ['text/plain: in'] }, 'text/plain: out'] },
    ],
    [
      'a boundary that is the beginning of another',
      'Content-Type: multipart/mixed; boundary=ab\n\n--ab\nContent-Type: multipart/mixed; boundary=abc\n\n--abc\n\nin\n--abc--\n--ab\n\nout\n--ab--',
      { 'multipart/mixed': [{ 'multipart/mixed': ['text/plain: in'] }, 'text/plain: out'] },
    ],
    [
      'blanks after a boundary',
      'Content-Type: multipart/mixed; boundary=b\n\n--b  \n\none\n--b-- \n',
      { 'multipart/mixed': ['text/plain: one'] },
    ],
    [
      'a digest holds messages',
      'Content-Type: multipart/digest; boundary=b\n\n--b\n\nSubject: x\n\nbody\n--b--',
      { 'multipart/digest': [{ message: 'text/plain: body' }] },
    ],
    ['a message in a message', 'Content-Type: message/rfc822\n\nContent-Type: text/html\n\n<p>', { message: 'text/html: <p>' }],
    [
      'a message in base64 is not looked into',
      'Content-Type: message/rfc822\nContent-Transfer-Encoding: base64\n\nSGk=',
      'application/octet-stream: SGk=',
    ],
    ['parts of which the boundary is missing', 'Content-Type: multipart/mixed\n\n--b\n\none', 'application/octet-stream: --b\r\n\r\none'],
    ['a boundary that never comes', 'Content-Type: multipart/mixed; boundary=b\n\nnothing', 'application/octet-stream: nothing'],
    [
      'a header that the boundary ends',
      'Content-Type: multipart/mixed; boundary=b\n\n--b\nContent-Type: text/html\n--b--',
      { 'multipart/mixed': ['text/html: '] },
    ],
    ['no header at all', '\njust text', 'text/plain: just text'],
    ['nothing', '', 'text/plain: '],
    ['only a header', 'Subject: x', 'text/plain: '],
    ['a type that is none', 'Content-Type: what is this\n\nx', 'text/plain: x'],
    ['a comment in the type', 'Content-Type: text/html (or so); charset=utf-8\n\nx', 'text/html: x'],
  ])('%s', (_what, text, expected) => {
    expect(shapeOf(text)).toEqual(expected);
  });

  it('nesting has an end, and so have parts', () => {
    const deep = Array.from({ length: 200 }, (_one, at) => `Content-Type: multipart/mixed; boundary=b${at}\n\n--b${at}\n`).join('');
    const depth = (part: Part): number => 1 + Math.max(0, ...[...part.children, ...(part.message ? [part.message] : [])].map(depth));
    expect(depth(readMime(crlf(deep)))).toBe(41);
    expect(depth(readMime(crlf('Content-Type: message/rfc822\n\n'.repeat(200))))).toBe(41);
    const many = readMime(crlf(`Content-Type: multipart/mixed; boundary=b\n\n${'--b\n\nx\n'.repeat(5000)}`));
    expect(many.children.length).toBe(1999);
  });

  it('whatever comes, parts lie in one another and in the text, and nothing is thrown', () => {
    const piece = fc.constantFrom(
      '--a',
      '--a--',
      '--b',
      '--b--',
      '\r\n',
      '\n',
      '\r\n\r\n',
      'Content-Type: multipart/mixed; boundary=a',
      'Content-Type: multipart/digest; boundary="b"',
      'Content-Type: message/rfc822',
      'Content-Type: text/plain; charset="',
      'Subject: =?utf-8?q?a?=',
      'x',
      ' ',
      '(',
      '"',
      '\0',
      'é',
    );
    fc.assert(
      fc.property(fc.array(piece, { maxLength: 60 }), (pieces) => {
        const text = Buffer.from(pieces.join(''), 'latin1');
        const root = readMime(text);
        const walk = (part: Part, from: number, to: number): void => {
          expect(part.start).toBeGreaterThanOrEqual(from);
          expect(part.bodyStart).toBeGreaterThanOrEqual(part.start);
          expect(part.end).toBeGreaterThanOrEqual(part.bodyStart);
          expect(part.end).toBeLessThanOrEqual(to);
          let next = part.bodyStart;
          for (const child of [...part.children, ...(part.message ? [part.message] : [])]) {
            walk(child, next, part.end);
            next = child.end;
          }
        };
        walk(root, 0, text.length);
        // The whole is the whole, whatever is in it.
        expect(root.end).toBe(text.length);
        outlineOf(text);
      }),
      { numRuns: 2000 },
    );
  });
});

describe('words and values', () => {
  it.each([
    // RFC 2047 §8
    ['=?US-ASCII?Q?Keith_Moore?= <moore@cs.example>', 'Keith Moore <moore@cs.example>'],
    [
      '=?ISO-8859-1?B?SWYgeW91IGNhbiByZWFkIHRoaXMgeW8=?=\r\n =?ISO-8859-2?B?dSB1bmRlcnN0YW5kIHRoZSBleGFtcGxlLg==?='.replace('\r\n', ''),
      'If you can read this you understand the example.',
    ],
    ['(=?ISO-8859-1?Q?a?= =?ISO-8859-1?Q?b?=)', '(ab)'],
    ['(=?ISO-8859-1?Q?a?= b)', '(a b)'],
    // A letter that was cut in two, and a language (RFC 2231 §5).
    ['=?utf-8?q?gr=C3?= =?utf-8?q?=BC=C3=9Fe?=', 'grüße'],
    ['=?US-ASCII*EN?Q?Keith?=', 'Keith'],
    ['=?no-such?q?a?= b', 'a b'],
    ['gr\xc3\xbc\xc3\x9fe', 'grüße'],
    ['gr\xfc\xdfe', 'grüße'],
    ['=?utf-8?q?open', '=?utf-8?q?open'],
  ])('%s', (value, expected) => {
    expect(decodedWords(value)).toBe(expected);
  });

  it('a parameter in parts, in a charset, with a language (RFC 2231 §4.1)', () => {
    const type = readParametrised(
      "application/x-stuff; title*0*=us-ascii'en'This%20is%20even%20more%20; title*1*=%2A%2A%2Afun%2A%2A%2A%20; title*2=\"isn't it!\"",
    );
    expect(parameter(type, 'title', decoded)).toBe("This is even more ***fun*** isn't it!");
    expect(parameter(readParametrised("a/b; name*=utf-8''%e2%82%ac%20rates"), 'name', decoded)).toBe('€ rates');
    // In structures parts are put together (RFC 2231 §6).
    expect(continued(type.parameters)).toEqual([['title*', "us-ascii'en'This%20is%20even%20more%20%2A%2A%2Afun%2A%2A%2A%20isn%27t%20it!"]]);
    expect(continued(readParametrised('a/b; url*1="cd"; x=1; URL*0=ab; x*="').parameters)).toEqual([
      ['url', 'abcd'],
      ['x', '1'],
      ['x*', ''],
    ]);
    expect(readParametrised('(c) text (d) / (e) html (f); (g) charset (h) = (i) x (j)')).toEqual({
      value: 'text/html',
      parameters: [['charset', 'x']],
    });
    expect(readParametrised('text/plain; charset="a;b" (c;d) ; x=1; =2;; y').parameters).toEqual([
      ['charset', 'a;b'],
      ['x', '1'],
    ]);
  });

  it('addresses of every shape, and what is none (RFC 5322 appendix A, RFC 3501 §7.4.2)', () => {
    const read = (value: string) => listedAddresses(value).map(({ name, mailbox, host }) => [name, mailbox, host]);
    expect(read('"Joe Q. Public" <john.q.public@example.com.example>, Mary Smith <mary@x.example>, jdoe@x.example')).toEqual([
      ['Joe Q. Public', 'john.q.public', 'example.com.example'],
      ['Mary Smith', 'mary', 'x.example'],
      [null, 'jdoe', 'x.example'],
    ]);
    expect(read('A Group:Ed Jones <ed@a.example>,joe@b.example;, x@y.example')).toEqual([
      [null, 'A Group', null],
      ['Ed Jones', 'ed', 'a.example'],
      [null, 'joe', 'b.example'],
      [null, null, null],
      [null, 'x', 'y.example'],
    ]);
    expect(read('Undisclosed recipients:;')).toEqual([
      [null, 'Undisclosed recipients', null],
      [null, null, null],
    ]);
    expect(listedAddresses('<@a.example,@b.example:joe@c.example>')[0]).toMatchObject({
      route: '@a.example,@b.example',
      mailbox: 'joe',
      host: 'c.example',
    });
    expect(read('pete(his account)@silly.test.example')).toEqual([['his account', 'pete', 'silly.test.example']]);
    expect(read('no address, "open <x@y.example')).toEqual([
      [null, 'no address', ''],
      [null, '"open <x', 'y.example'],
    ]);
  });

  it('dates as people write them', () => {
    const day = Date.UTC(1997, 10, 21, 15, 55, 6);
    for (const value of [
      'Fri, 21 Nov 1997 09:55:06 -0600',
      '21 Nov 97 09:55:06 -0600',
      'Fri, 21 Nov 1997 10:55:06 EST',
      '21 Nov 1997 15:55:06 GMT (comment)',
      'Friday, 21-Nov-97 15:55:06 GMT',
    ])
      expect(readMailDate(value)).toBe(day);
    for (const value of ['', 'yesterday', '31 Jun 2020 10:00:00 +0000', '1 Foo 2020 10:00:00 +0000'])
      expect(readMailDate(value)).toBeNull();
  });

  it('quoted-printable and base64 as they come (RFC 2045 §6.7, §6.8)', () => {
    expect(transferDecoded(Buffer.from('a=20b=\r\nc  \r\nd=3D=zz'), 'Quoted-Printable')?.toString()).toBe('a bc\r\nd==zz');
    expect(transferDecoded(Buffer.from('SGVs\r\nbG8=\r\n'), 'BASE64')?.toString()).toBe('Hello');
    expect(transferDecoded(Buffer.from('x'), 'x-uuencode')).toBeNull();
    // Two texts, one after the other: padding ends a group.
    expect(transferDecoded(Buffer.from('SGk=SGk='), 'base64')?.toString()).toBe('HiHi');
  });

  it('fields keep their folds, and what is none is passed over', () => {
    const header = Buffer.from('Subject: a\r\n  b\r\nno field\r\n: empty\r\nX-Y :  z \r\n');
    expect(fieldsOf(header, 0, header.length).map(({ name, value }) => [name, value])).toEqual([
      ['subject', 'a  b'],
      ['x-y', 'z'],
    ]);
  });
});

it('what is kept of a text: preview, thread, order', () => {
  const text = crlf(`From: "Ana" <ana@shop.example>
To: Leo <leo@out.example>
Subject: Re: =?utf-8?q?Gr=C3=BC=C3=9Fe?=
Message-ID: <3@x.example>
References: <1@x.example> <2@x.example>
In-Reply-To: <2@x.example>
Date: Mon, 1 Jun 2026 10:00:00 +0200
Content-Type: multipart/alternative; boundary=b

--b
Content-Type: text/html

<style>p { color: red }</style><p>Hi &amp; bye</p>
--b--
`);
  const { keys, preview, thread } = outlineOf(text);
  expect(keys).toEqual({
    sentAt: Date.UTC(2026, 5, 1, 8),
    sentDay: Date.UTC(2026, 5, 1),
    subject: 'Re: Grüße',
    from: 'ana',
    to: 'leo',
    cc: '',
    messageId: '<3@x.example>',
    references: ['<1@x.example>', '<2@x.example>'],
  });
  expect(preview).toBe('Hi & bye');
  expect(outlineOf(crlf('Message-ID: <1@x.example>\n\nThe first')).thread).toBe(thread);
});

describe('decoded piece by piece', () => {
  const signs = fc.constantFrom('=', '=\r\n', '\r\n', '\n', ' ', '\t', '=41', '=4', 'SGVs', 'b', 'G8=', '=', '%', '\u00e9');
  it.each(['base64', 'quoted-printable', '8bit'])('%s: however it is cut, the result is the same', (encoding) => {
    fc.assert(
      fc.property(fc.array(signs, { maxLength: 60 }), fc.array(fc.nat(200), { maxLength: 6 }), (parts, cuts) => {
        const octets = Buffer.from(parts.join(''), 'latin1');
        const decoder = transferDecoder(encoding) as TransferDecoder;
        const places = [0, ...cuts.filter((one) => one < octets.length).sort((one, other) => one - other), octets.length];
        const pieces = places.slice(1).map((end, at) => decoder.push(octets.subarray(places[at], end)));
        expect(Buffer.concat([...pieces, decoder.end()])).toEqual(transferDecoded(octets, encoding));
      }),
    );
  });
  it('a line without an end is not kept whole', () => {
    const decoder = transferDecoder('quoted-printable') as TransferDecoder;
    let longest = 0;
    let length = 0;
    for (let at = 0; at < 100; at += 1) {
      length += decoder.push(Buffer.from('=41='.repeat(8192))).length;
      longest = Math.max(longest, (at + 1) * 16_384 - length);
    }
    expect(longest).toBeLessThan(70_000);
  });
});

it.each([
  ['empty lines', '\n'],
  ['lines that could be boundaries', '--q\r\n'],
  ['lines that begin as boundaries do', '--qx\r\n'],
  ['dashes and none in turn', '--x\r\ny\r\n'],
  ['a header without end', 'x: y\r\n'],
])('a large text of %s is read in many steps, to the same outline', async (_what, line) => {
  for (const head of ['', 'Content-Type: multipart/mixed; boundary=q\r\n\r\n--q\r\n\r\n', 'Content-Type: text/plain\r\n\r\n']) {
    const text = Buffer.from(head + line.repeat(Math.ceil(6_000_000 / line.length)), 'latin1');
    let pauses = 0;
    const outline = await outlineInTurns(text, async () => {
      pauses += 1;
    });
    expect(outline).toEqual(outlineOf(text));
    // At least one for each two megabytes.
    expect(pauses, head).toBeGreaterThanOrEqual(3);
  }
});
