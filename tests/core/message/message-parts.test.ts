import { createHmac } from 'node:crypto';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { addressesIn } from '../../../src/core/message/address-list.ts';
import { type DsnFacts, deliveryReport, fromXtext } from '../../../src/core/message/dsn.ts';
import { encodedWords } from '../../../src/core/message/encoded-words.ts';
import { bodyOffset, displayText, parseFields } from '../../../src/core/message/fields.ts';
import { signedHeaders } from '../../../src/core/message/http-signature.ts';
import { MultiLine } from '../../../src/core/message/multi-line.ts';
import { endOfComment, endOfQuoted, withoutQuoted } from '../../../src/core/message/quoted.ts';
import { missingFields, readSubmission, subjectOf, summaryOf } from '../../../src/core/message/submission.ts';
import { deliveredTo, receivedField } from '../../../src/core/message/trace.ts';
import { answerText, valueText } from '../../../src/core/records/answers.ts';
import { sameAddress } from '../../../src/core/records/reverse-name.ts';
import { composeSheet } from '../../../src/core/records/sheet.ts';
import { zoneChanges } from '../../../src/core/records/zone-changes.ts';
import { zoneFile } from '../../../src/core/records/zone-file.ts';

const AT = Date.UTC(2026, 10, 26, 9, 5, 7);

describe('a text of many lines', () => {
  /** The same by a plain reading of the standard. */
  const expected = (text: string, lines: number | null): string => {
    let kept = text;
    if (lines !== null) {
      const parts = text.split('\r\n');
      const empty = parts.indexOf('');
      const whole = empty < 0 ? parts : parts.slice(0, empty + 1 + lines);
      kept = whole.length < parts.length ? `${whole.join('\r\n')}\r\n` : text;
    }
    const dotted = kept.replace(/(^|\r\n)\./g, '$1..');
    return `${dotted}${dotted === '' || dotted.endsWith('\r\n') ? '' : '\r\n'}.\r\n`;
  };
  it('gets its dots and its end, in whatever pieces it comes', () => {
    const text = fc
      .array(fc.constantFrom('\r\n', '.', 'x', '\r', '\n', '..', 'ab', '\r\n.'), { maxLength: 30 })
      .map((parts) => parts.join(''));
    const cuts = fc.array(fc.nat(60), { maxLength: 8 });
    fc.assert(
      fc.property(text, cuts, (whole, places) => {
        const at = [0, ...places.filter((one) => one < whole.length), whole.length].sort((one, other) => one - other);
        const answer = new MultiLine();
        const pieces = at.slice(1).map((end, number) => answer.push(Buffer.from(whole.slice(at[number], end))).toString());
        expect(pieces.join('') + answer.end().toString()).toBe(expected(whole, null));
        // Where line ends are mended, no line begins with an LF alone, and no dot hides behind one.
        const mending = new MultiLine(null, true);
        const mended = at.slice(1).map((end, number) => mending.push(Buffer.from(whole.slice(at[number], end))).toString());
        expect(mended.join('') + mending.end().toString()).toBe(expected(whole.replace(/(?<!\r)\n/g, '\r\n'), null));
      }),
      { numRuns: 2000 },
    );
  });
  it('is cut after so many lines of its body', () => {
    const text = 'a: b\r\nc: d\r\n\r\n.one\r\ntwo\r\nthree\r\n';
    for (const lines of [0, 1, 2, 3, 9])
      for (let cut = 0; cut <= text.length; cut += 1) {
        const answer = new MultiLine(lines);
        const said =
          [text.slice(0, cut), text.slice(cut)].map((piece) => answer.push(Buffer.from(piece)).toString()).join('') +
          answer.end().toString();
        expect(said, `${lines} ${cut}`).toBe(expected(text, lines));
        expect(answer.isFull).toBe(lines < 4 && lines <= 3);
      }
  });
});

describe('fields', () => {
  it('begin and end where they should', () => {
    const read = (text: string): string[] => parseFields(Buffer.from(text, 'latin1')).map(({ name, value }) => `${name}=${value}`);
    expect(read('A: b\r\nC:d\r\n e\r\n\r\nX: y\r\n')).toEqual(['A=b', 'C=d e']);
    expect(read(': no name\r\nA b: no name\r\nno colon\r\nB: c\r\n\r\n')).toEqual(['B=c']);
    expect(read('\r\nA: b\r\n')).toEqual([]);
    expect([bodyOffset(Buffer.from('A: b\r\n\r\nbody')), bodyOffset(Buffer.from('\r\nbody')), bodyOffset(Buffer.from('A: b'))]).toEqual([
      8, 2, 4,
    ]);
  });
  it.each<[string, string]>([
    ['plain', 'plain'],
    ['=?utf-8?B?w6E=?= =?utf-8?q?=C3=A9_x?=', 'áé x'],
    ['=?iso-8859-1*es?Q?se=F1or?= Ruiz', 'señor Ruiz'],
    ['=?nonsense?B?w6E=?=', '=?nonsense?B?w6E=?='],
    ['a =?utf-8?B?w6E=?= b', 'a á b'],
    ['se\u00c3\u00b1or', 'señor'],
    ['x'.repeat(200), 'x'.repeat(200)],
    ['x'.repeat(201), `${'x'.repeat(199)}…`],
  ])('%j is shown as %j', (value, shown) => {
    expect(displayText(value)).toBe(shown);
  });
  it('words for a field are ASCII, short enough, of whole letters, and read back', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'grapheme', maxLength: 80 }), (text) => {
        const words = encodedWords(text);
        expect(words).toMatch(/^[\x20-\x7e\r\n]*$/);
        for (const line of words.split('\r\n')) if (line.includes('=?utf-8?')) expect(line.trim().length).toBeLessThanOrEqual(75);
        if (words.includes('=?utf-8?')) expect(displayText(words.replaceAll('\r\n', ''), 10_000)).toBe(text.replace(/\p{Cc}+/gu, ' '));
      }),
    );
    expect(encodedWords('plain')).toBe('plain');
    expect(encodedWords('a=?b')).toBe('=?utf-8?B?YT0/Yg==?=');
    // 45 octets fill a word, 46 need a second one.
    expect([
      encodedWords('é'.repeat(22)).split('\r\n').length,
      encodedWords(`${'é'.repeat(22)}x`).split('\r\n').length,
      encodedWords('é'.repeat(23)).split('\r\n').length,
    ]).toEqual([1, 1, 2]);
  });
  it('quoted strings and comments end where they should', () => {
    expect([
      endOfQuoted('"a"', 0),
      endOfQuoted('"a\\"b"c', 0),
      endOfQuoted('"a', 0),
      endOfQuoted('"a\\"', 0),
      endOfQuoted('""', 0),
    ]).toEqual([3, 6, -1, -1, 2]);
    expect([
      endOfComment('(a)', 0),
      endOfComment('(a(b)c)d', 0),
      endOfComment('(a\\)b)', 0),
      endOfComment('(a', 0),
      endOfComment('((a)', 0),
    ]).toEqual([3, 7, 6, -1, -1]);
    const nested = (depth: number): string => '('.repeat(depth) + ')'.repeat(depth);
    expect([endOfComment(nested(50), 0), endOfComment(nested(51), 0)]).toEqual([100, -1]);
    expect([withoutQuoted('a"b"c'), withoutQuoted('a"b"c"d"', '_'), withoutQuoted('a"b'), withoutQuoted('"x"'), withoutQuoted('')]).toEqual(
      ['ac', 'a_c_', 'a"b', '', ''],
    );
  });
  it.each<[string, string[] | null]>([
    ['a@x.example', ['a@x.example']],
    ['Ana Lo <a@x.example>', ['a@x.example']],
    ['"Lo, Ana" <a@x.example>, b@y.example', ['a@x.example', 'b@y.example']],
    ['a@x.example (Ana)', ['a@x.example']],
    ['<a@x.example', null],
    ['<a@x.example> <b@y.example>', null],
    ['<a @x.example>', null],
  ])('the list %j holds %j', (value, found) => {
    expect(addressesIn(value)).toEqual(found);
  });
});

describe('what a submission says and lacks', () => {
  const of = (header: string) => readSubmission(Buffer.from(`${header}\r\n\r\nbody\r\n`, 'latin1'));
  it('is read, or refused with a reason', () => {
    expect(of('From: a@x.example')).toEqual({ kind: 'ok', from: ['a@x.example'], missing: ['Date', 'Message-ID'] });
    expect(of('From: a@x.example\r\nDate: x\r\nSender: s@x.example')).toEqual({
      kind: 'ok',
      from: ['a@x.example', 's@x.example'],
      missing: ['Message-ID'],
    });
    expect(of('From: a@x.example\r\nMessage-ID: <1@x>\r\nSender: no address')).toMatchObject({
      kind: 'ok',
      missing: ['Date'],
      from: ['a@x.example', ''],
    });
    expect(of('From: ana@x.example <a@x.example>')).toMatchObject({ kind: 'ok' });
    expect(of('Subject: x')).toEqual({ kind: 'refused', reason: 'The message has no From field' });
    expect(of('From: a@x.example\r\nFrom: b@x.example')).toEqual({ kind: 'refused', reason: 'The message has more than one From field' });
    for (const none of ['From:', 'From: nobody', 'From: <>', 'From: Ana <a @x.example>'])
      expect(of(none), none).toEqual({ kind: 'refused', reason: 'The From field holds no readable address' });
  });
  it('is found again by subject and Message-ID', () => {
    const summary = (header: string) => summaryOf(Buffer.from(`${header}\r\n\r\n`));
    expect(summary('Subject: =?utf-8?B?w6E=?=\r\nMessage-ID: <abc.1@x.example>')).toEqual({ subject: 'á', messageId: 'abc.1@x.example' });
    expect(summary('X: y')).toEqual({ subject: '', messageId: null });
    expect(summary('Message-ID: abc')).toEqual({ subject: '', messageId: null });
    expect(summary('Message-ID: (x) <a b> <c@d>')).toEqual({ subject: '', messageId: 'c@d' });
    expect(summary(`Message-ID: <${'x'.repeat(250)}>`).messageId).toBe('x'.repeat(250));
    expect(summary(`Message-ID: <${'x'.repeat(251)}>`).messageId).toBeNull();
    expect(subjectOf(Buffer.from('Subject: hi\r\n\r\n'))).toBe('hi');
  });
  it('gets what it lacks', () => {
    const facts = { at: AT, unique: 'u1', domain: 'x.example' };
    expect(missingFields([], facts)).toBe('');
    expect(missingFields(['Date'], facts)).toBe('Date: Thu, 26 Nov 2026 09:05:07 +0000\r\n');
    expect(missingFields(['Message-ID'], facts)).toBe('Message-ID: <u1@x.example>\r\n');
  });
  it('gets its trace, in which the client’s words are harmless', () => {
    const facts = { helo: 'c.example\r\nX: y', clientAddress: '192.0.2.1', hostName: 'h.example', protocol: 'ESMTPS', id: 'j1', at: AT };
    expect(receivedField(facts)).toBe(
      'Received: from c.example??X:?y ([192.0.2.1])\r\n\tby h.example with ESMTPS id j1;\r\n\tThu, 26 Nov 2026 09:05:07 +0000\r\n',
    );
    expect(receivedField({ ...facts, helo: 'x'.repeat(300), clientAddress: '2001:db8::1' })).toContain(
      `from ${'x'.repeat(255)} ([IPv6:2001:db8::1])`,
    );
    expect(deliveredTo(Buffer.from('Delivered-To: A@x.example\r\nDelivered-To:  <B@y.example> \r\nTo: c@z.example\r\n\r\n'))).toEqual([
      'a@x.example',
      'b@y.example',
    ]);
  });
});

describe('a delivery report (RFC 3464)', () => {
  const FACTS: DsnFacts = {
    action: 'failed',
    hostName: 'mail.host.example',
    to: 'ana@shop.example',
    id: 'r1',
    originalId: 'j1',
    at: AT,
    arrivedAt: AT - 60_000,
    until: null,
    envelopeId: null,
    recipients: [
      { recipient: 'li@out.example', original: null, status: '5.1.1', diagnostic: '550 5.1.1 nobody', remoteHost: 'mx.out.example' },
    ],
    original: Buffer.from('Subject: hi\r\n\r\nthe text\r\n\r\n'),
    whole: true,
  };
  const text = (changes: Partial<DsnFacts> = {}): string => deliveryReport({ ...FACTS, ...changes }).toString();
  const one = FACTS.recipients[0] as DsnFacts['recipients'][number];
  it('says whom it is about, what was said, and by whom', () => {
    const report = text();
    for (const part of [
      'Final-Recipient: rfc822; li@out.example',
      'Action: failed',
      'Status: 5.1.1',
      'Remote-MTA: dns; mx.out.example',
      'Diagnostic-Code: smtp; 550 5.1.1 nobody',
      'To: <ana@shop.example>',
      'Subject: Your message did not reach li@out.example',
      'the text',
    ])
      expect(report).toContain(part);
    expect(text({ recipients: [{ ...one, diagnostic: 'The disk is full' }] })).not.toContain('Diagnostic-Code');
    expect(text({ recipients: [{ ...one, diagnostic: 'x550 5.1.1 nobody' }] })).not.toContain('Diagnostic-Code');
    expect(text({ recipients: [{ ...one, diagnostic: '' }] })).toMatch(/ {2}li@out\.example\r\n\r\n/);
    expect(text({ recipients: [one, { ...one, recipient: 'bo@out.example' }] })).toContain(
      'Subject: Your message did not reach 2 recipients',
    );
    expect(text({ recipients: [{ ...one, diagnostic: `550 a\r\nb\u0007${'x'.repeat(600)}` }] })).toMatch(/smtp; 550 a b x{490,}\r\n/);
  });
  it('for what is delayed says until when', () => {
    expect(text({ action: 'delayed', until: AT + 3_600_000 })).toMatch(/Will-Retry-Until: Thu, 26 Nov 2026 10:05:07 \+0000/);
    expect(text({ action: 'delayed' })).not.toContain('Will-Retry-Until');
  });
  it('brings the message back whole, or its header', () => {
    expect(text({ whole: false })).not.toContain('the text');
    expect(text({ whole: false })).toContain('text/rfc822-headers');
    const big = Buffer.from(`Subject: hi\r\n\r\n${'x'.repeat(256 * 1024)}`);
    expect(text({ original: big })).toContain('text/rfc822-headers');
    expect(text({ original: big.subarray(0, 256 * 1024) })).toContain('message/rfc822');
    expect(text({ action: 'delayed' })).toContain('text/rfc822-headers');
    // To the last octet of the last letter.
    expect(deliveryReport({ ...FACTS, original: Buffer.from('Subject: hi\r\n\r\nvoilà\r\n') }).includes(Buffer.from('voilà\r\n'))).toBe(
      true,
    );
    expect(text({ original: Buffer.from('Subject: hi\r\n\r\nvoilà\r\n') })).toContain('Content-Transfer-Encoding: 8bit');
  });
  it('with addresses beyond ASCII is one of RFC 6533', () => {
    const report = text({ recipients: [one, { ...one, recipient: 'niño@out.example' }] });
    expect(report).toContain('message/global-delivery-status');
    expect(report).toContain('utf-8; niño@out.example');
    expect(text()).toContain('message/delivery-status');
  });
  it('undoes xtext', () => {
    expect([fromXtext('a+2Bb'), fromXtext('a+2'), fromXtext('a+0Ab'), fromXtext('plain'), fromXtext('+40+40')]).toEqual([
      'a+b',
      'a+2',
      'a?b',
      'plain',
      '@@',
    ]);
  });
});

it('a call to a webhook is signed as RFC 9421 §3.3.3 says', () => {
  const secret = Buffer.from('secret');
  const headers = signedHeaders({ url: 'https://hook.example/x', body: '{"a":1}', keyId: 'k1', secret, created: 1_700_000_000 });
  // The digest of `{"a":1}` by another program.
  expect(headers['content-digest']).toBe('sha-256=:AVq9f1zFei3ZS3WQ8ErYCEJzkF7jPsXOvq5iJ2qX+GI=:');
  expect(headers['signature-input']).toBe(
    'tenedor=("@method" "@target-uri" "content-digest" "content-type");created=1700000000;keyid="k1";alg="hmac-sha256"',
  );
  const base = `"@method": POST\n"@target-uri": https://hook.example/x\n"content-digest": ${headers['content-digest']}\n"content-type": application/json\n"@signature-params": ${headers['signature-input']?.slice('tenedor='.length)}`;
  expect(headers['signature']).toBe(`tenedor=:${createHmac('sha256', secret).update(base).digest('base64')}:`);
});

describe('records', () => {
  const host = { name: 'mail.host.example', addresses: ['192.0.2.25'], standby: ['reserve.host.example'], services: { submissions: 465 } };
  const keys = [{ selector: 'k1', type: 'rsa' as const, publicKey: 'AAAA' }];
  const kinds = (facts: object): string =>
    composeSheet({ domain: 'shop.example', host, keys, stage: 'none', ...facts })
      .map((one) => (one.type === 'MX' ? one.value : one.subject))
      .join(', ');
  it('of a domain are those of its role, and of what is sent from here', () => {
    expect(kinds({})).toBe('10 mail.host.example, 20 reserve.host.example, spf, dkim, dmarc, discovery, host, reverse');
    expect(kinds({ role: 'pass-on' })).toBe('10 mail.host.example, dmarc, host, reverse');
    expect(kinds({ role: 'pass-on', sends: true })).toBe('10 mail.host.example, spf, dkim, dmarc, host, reverse');
    expect(kinds({ role: 'standby' })).toBe('dmarc, host, reverse');
    expect(kinds({ role: 'away' })).toBe('dmarc');
    expect(kinds({ role: 'away', sends: true })).toBe('spf, dkim, dmarc, host, reverse');
  });
  it('stand in a zone file, those of other zones as remarks', () => {
    const lines = zoneFile('shop.example', composeSheet({ domain: 'shop.example', host, keys, stage: 'none' })).split('\n');
    expect(lines.filter((line) => line.startsWith(';')).join('\n')).toMatch(/mail\.host\.example\.\s+3600\s+IN\s+A\s+192\.0\.2\.25/);
    expect(lines.filter((line) => !line.startsWith(';')).join('\n')).not.toContain('192.0.2.25');
    expect(lines.join('\n')).toMatch(/^; 25\.2\.0\.192\.in-addr\.arpa\..*PTR\s+mail\.host\.example\.$/m);
  });
  it('of several names and kinds are brought in line each by itself', () => {
    const sheet = composeSheet({ domain: 'shop.example', host: { ...host, services: {} }, keys, stage: 'none' });
    const published: Record<string, string[]> = {
      'TXT _dmarc.shop.example': ['v=DMARC1; p=none; rua=mailto:postmaster@shop.example', 'hello'],
      'TXT k1._domainkey.shop.example': ['v=DKIM1; k=rsa; p=BBBB'],
    };
    const changes = zoneChanges(sheet, (name, type) => published[`${type} ${name}`] ?? []).filter(
      (one) => one.name.includes('shop') && one.type !== 'MX',
    );
    expect(changes.map(({ action, name, value }) => `${action} ${name} ${value}`)).toEqual([
      'add shop.example v=spf1 a:mail.host.example -all',
      'remove k1._domainkey.shop.example v=DKIM1; k=rsa; p=BBBB',
      'add k1._domainkey.shop.example v=DKIM1; k=rsa; p=AAAA',
    ]);
  });
  it('are said in words', () => {
    expect(
      answerText({
        kind: 'found',
        values: [
          { preference: 10, exchange: 'a.example' },
          { preference: 0, exchange: '' },
        ],
        ttl: 1,
        alias: null,
      }),
    ).toBe('10 a.example | 0 .');
    expect(answerText({ kind: 'found', values: ['x'], ttl: 1, alias: 'y.example' })).toBe('x (through the alias to y.example)');
    expect(answerText({ kind: 'failed', reason: 'late' })).toBe('late');
    expect(answerText({ kind: 'none', reason: 'no-such-name' })).toBe('no such name');
    expect(answerText({ kind: 'none', reason: 'no-such-record', alias: 'y.example' })).toBe(
      'no such record (through the alias to y.example)',
    );
    expect(valueText({ serial: 7, refresh: 1 })).toBe('serial 7');
    expect([
      sameAddress('2001:db8::1', '2001:0DB8:0:0::1'),
      sameAddress('192.0.2.1', '192.0.2.2'),
      sameAddress('x', 'x'),
      sameAddress('192.0.2.1', 'x'),
    ]).toEqual([true, false, false, false]);
  });
});
