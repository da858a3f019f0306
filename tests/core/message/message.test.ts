import { domainToASCII, domainToUnicode } from 'node:url';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { parseDomain } from '../../../src/core/address/domain.ts';
import { addressKey, parseAddress, parseNewLocalPart, withoutTag } from '../../../src/core/address/mailbox-address.ts';
import { addressesIn } from '../../../src/core/message/address-list.ts';
import { deliveryReport } from '../../../src/core/message/dsn.ts';
import { encodedWords } from '../../../src/core/message/encoded-words.ts';
import { displayText, withoutFields } from '../../../src/core/message/fields.ts';
import { readSubmission } from '../../../src/core/message/submission.ts';
import { receivedField } from '../../../src/core/message/trace.ts';
import { GIVE_UP_AFTER, nextAttempt } from '../../../src/core/retry/schedule.ts';
import { findMailHosts } from '../../../src/core/routing/mail-hosts.ts';
import { type Directory, routeRecipient } from '../../../src/core/routing/recipients.ts';
import { lookupIn } from '../../support/lookup.ts';

describe('domains and addresses', () => {
  it.each([
    ['Shop.Example.', 'shop.example'],
    ['müller.example', 'xn--mller-kva.example'],
    ['XN--MLLER-KVA.example', 'xn--mller-kva.example'],
    ['tallernuño.example', 'xn--tallernuo-s6a.example'],
  ])('%s is %s', (typed, ascii) => expect(parseDomain(typed)).toMatchObject({ kind: 'ok', ascii }));
  it.each([
    '',
    'shop',
    '192.0.2.1',
    '127.1',
    'a..example',
    '-a.example',
    'a-.example',
    'a_b.example',
    `${'a'.repeat(64)}.example`,
    'x'.repeat(300),
    'a b.example',
    'http://a.example',
    'a.example/',
    'a%2e.example',
    'ana@a.example',
    '[192.0.2.1]',
    'a\u0000.example',
  ])('%j is no mail domain', (typed) => expect(parseDomain(typed).kind).toBe('invalid'));
  it('what is plain is read as UTS 46 reads it, whatever its labels look like', () => {
    const label = fc.oneof(
      fc.string({ unit: fc.constantFrom(...'ab0x-1f'), minLength: 1, maxLength: 6 }),
      fc.constantFrom('xn--a', 'xn--mller-kva', '0x1f', '08', 'ab--cd', 'example'),
    );
    fc.assert(
      fc.property(fc.array(label, { minLength: 2, maxLength: 4 }), (labels) => {
        const text = labels.join('.');
        const parsed = parseDomain(text);
        if (parsed.kind !== 'ok') return;
        expect(parsed).toMatchObject({ ascii: domainToASCII(text), unicode: domainToUnicode(text) });
      }),
      { numRuns: 2000 },
    );
  });
  it('an address survives being written and read, whatever its local part', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'grapheme-ascii', minLength: 1, maxLength: 30 }), (local) => {
        const parsed = parseAddress(`${addressKey({ local, domain: 'x.example' })}`);
        if (parsed.kind === 'ok') expect(parsed.address).toEqual({ local: local.toLowerCase(), domain: 'x.example' });
        else expect(/[^\x20-\x7e]/.test(local) || local.length > 20).toBe(true);
      }),
    );
  });
  it.each([
    'a',
    'a@',
    '@b.example',
    'a b@c.example',
    'a..b@c.example',
    '.a@c.example',
    `${'a'.repeat(65)}@c.example`,
    'ä@c.example',
    'a@[192.0.2.1]',
    '"a@c.example',
  ])('%j is no address', (text) => expect(parseAddress(text).kind).toBe('invalid'));
  it('tags and new local parts', () => {
    expect(withoutTag('ana+shop+x')).toBe('ana');
    expect(withoutTag('+x')).toBe('+x');
    expect(parseNewLocalPart(' Ana.Ruiz ')).toEqual({ kind: 'ok', local: 'ana.ruiz' });
    for (const wrong of ['', 'a+b', 'a..b', 'a@b', 'ñ', 'a b', '.a', 'a'.repeat(65)])
      expect(parseNewLocalPart(wrong).kind, wrong).toBe('invalid');
  });
});

describe('who a message says it is from', () => {
  it.each([
    ['Ana <ana@x.example>', ['ana@x.example']],
    ['ana@x.example', ['ana@x.example']],
    ['"Ruiz, Ana" <ana@x.example>, (note) li@y.example', ['ana@x.example', 'li@y.example']],
    ['Team: ana@x.example, Li <li@y.example>;', ['ana@x.example', 'li@y.example']],
    ['"a@b.example" <real@x.example>', ['real@x.example']],
    ['undisclosed:;', []],
  ])('%s', (value, addresses) => expect(addressesIn(value)).toEqual(addresses));
  it.each([
    'ana@x.example <evil@y.example> more',
    '<a@x.example> <b@y.example>',
    'Ana ana@x.example',
    '"open <a@x.example>',
    'a@x.example (open',
    '<a@x.example',
    '<a@x.example,b@y.example>',
    'nobody',
  ])('%s can’t be read', (value) => expect(addressesIn(value)).toBeNull());
  it('several From fields, none, and an unreadable one are refused; Sender counts too', () => {
    const read = (header: string) => readSubmission(Buffer.from(`${header}\r\n\r\nx`));
    expect(read('From: a@x.example\r\nFrom: b@x.example').kind).toBe('refused');
    expect(read('Subject: x').kind).toBe('refused');
    expect(read('From: <a@x.example').kind).toBe('refused');
    // All that might be shown must be the sender's own.
    expect(read('From: a@x.example <a@x.example>')).toMatchObject({ from: ['a@x.example'] });
    expect(read('From: boss@bank.example <a@x.example>')).toMatchObject({ from: ['boss@bank.example', 'a@x.example'] });
    for (const wrong of ['boss@bank.example: a@x.example;', '<a@x.example> "boss@bank.example"', 'a@b@x.example'])
      expect(read(`From: ${wrong}`).kind, wrong).toBe('refused');
    expect(read('from : A <a@x.example>\r\nSender: b@y.example\r\nDate: x')).toMatchObject({
      kind: 'ok',
      from: ['a@x.example', 'b@y.example'],
      missing: ['Message-ID'],
    });
  });
});

it('shows encoded subjects decoded, and never longer than asked', () => {
  expect(displayText('=?utf-8?Q?Se=C3=B1ales?= =?utf-8?B?IHkgbcOhcw==?=')).toBe('Señales y más');
  expect(displayText('=?no-such-set?Q?x?=')).toBe('=?no-such-set?Q?x?=');
  fc.assert(fc.property(fc.string(), (text) => displayText(text, 50).length <= 50));
});

it('a subject of ours is ASCII, in words of whole letters that are read back as they were (RFC 2047)', () => {
  expect(encodedWords('The limit of shop.example is reached')).toBe('The limit of shop.example is reached');
  fc.assert(
    fc.property(fc.string({ unit: fc.constantFrom('a', ' ', 'é', '€', '😀', '=?', '\r\n'), maxLength: 120 }), (text) => {
      const written = encodedWords(text);
      expect(written).toMatch(/^[ -~]*(\r\n [ -~]+)*$/);
      const words = written.split('\r\n ');
      if (written !== text) expect(Math.max(...words.map((word) => word.length))).toBeLessThanOrEqual(75);
      expect(displayText(written.replaceAll('\r\n', ''), 1000)).toBe(text.replace(/[\r\n]+/g, ' '));
    }),
  );
});

it('fields are taken out by name, with their folds, and nothing else is touched', () => {
  const message = Buffer.from('To: a\r\nBCC : b,\r\n c\r\nBcc-Not: d\r\nSubject: Bcc: e\r\nbcc: f\r\n\r\nBcc: g\r\n');
  expect(withoutFields(message, ['bcc', 'resent-bcc']).toString()).toBe('To: a\r\nBcc-Not: d\r\nSubject: Bcc: e\r\n\r\nBcc: g\r\n');
  expect(withoutFields(message, ['cc'])).toBe(message);
});

it('a hostile HELO can’t write into the Received field', () => {
  const field = receivedField({
    helo: 'x\r\nBcc: evil@y.example ([1])',
    clientAddress: '2001:db8::1',
    hostName: 'h.example',
    protocol: 'ESMTPS',
    id: 'j1',
    at: 0,
  });
  expect(field.split('\r\n')).toHaveLength(4);
  expect(field).toContain('[IPv6:2001:db8::1]');
  expect(field).toContain('Thu, 01 Jan 1970 00:00:00 +0000');
});

it('a failure report has the three parts of RFC 3464, and no line that isn’t one', () => {
  const facts = {
    action: 'failed' as const,
    hostName: 'h.example',
    to: 'ana@x.example',
    id: 'r1',
    originalId: 'j1',
    at: 0,
    arrivedAt: 0,
    until: null,
    envelopeId: null,
    whole: false,
    recipients: [
      {
        recipient: 'li@y.example',
        original: null,
        status: '5.1.1',
        diagnostic: '550 5.1.1 no\r\nInjected: yes',
        remoteHost: 'mx.y.example',
      },
    ],
    original: Buffer.from('Subject: original\r\nFrom: ana@x.example\r\n\r\nsecret body\r\n'),
  };
  const report = deliveryReport(facts).toString('latin1');
  for (const part of [
    'multipart/report; report-type=delivery-status',
    'Auto-Submitted: auto-replied',
    'Final-Recipient: rfc822; li@y.example',
    'Action: failed',
    'Status: 5.1.1',
    'Remote-MTA: dns; mx.y.example',
    'Diagnostic-Code: smtp; 550 5.1.1 no',
    'text/rfc822-headers',
    'Subject: original',
  ])
    expect(report).toContain(part);
  expect(report).not.toContain('secret body');
  expect(report).not.toMatch(/^Injected/m);
  expect(report.replaceAll('\r\n', '')).not.toMatch(/[\r\n]/);
  // RFC 3461: the whole message where it was asked for, what the sender wrote at first, and RFC 6533 beyond ASCII.
  const [recipient] = facts.recipients;
  const asked = {
    ...facts,
    whole: true,
    envelopeId: 'order 7',
    recipients: [{ ...recipient, original: 'rfc822;list@y.example', recipient: 'lí@y.example' }],
  };
  const whole = deliveryReport(asked as Parameters<typeof deliveryReport>[0]).toString('utf8');
  for (const part of [
    'secret body',
    'Original-Envelope-Id: order 7',
    'Original-Recipient: rfc822;list@y.example',
    'Final-Recipient: utf-8; lí@y.example',
    'report-type=global-delivery-status',
    'Content-Type: message/global',
  ])
    expect(whole).toContain(part);
  // A message comes back to its last octet, which may be half of a letter; what holds 8 bits says so (RFC 2045 §6.4).
  const grave = Buffer.from('Subject: x\r\n\r\nvoilà\r\n');
  const returned = deliveryReport({ ...facts, whole: true, original: grave });
  expect(returned.includes(grave.subarray(0, -2))).toBe(true);
  expect(returned.toString().match(/Content-Transfer-Encoding: \w+/g)).toEqual(
    ['8bit', '7bit', '7bit', '8bit'].map((one) => `Content-Transfer-Encoding: ${one}`),
  );
  expect(report.match(/Content-Transfer-Encoding: \w+/g)).toEqual(
    ['7bit', '7bit', '7bit', '7bit'].map((one) => `Content-Transfer-Encoding: ${one}`),
  );
  // RFC 3464 §2.3.6: a code only for what a server said, and in ASCII.
  const of = (diagnostic: string, remoteHost: string | null): string | undefined =>
    /Diagnostic-Code: (.*)\r/.exec(
      deliveryReport({
        ...facts,
        recipients: [{ ...(facts.recipients[0] as never as object), diagnostic, remoteHost } as never],
      }).toString(),
    )?.[1];
  expect(of('550 kein Konto für Sie', 'mx.y.example')).toBe('smtp; 550 kein Konto f?r Sie');
  expect([of('Its name leads nowhere', null), of('550 so', null), of('did not answer', 'mx.y.example')]).toEqual([
    undefined,
    undefined,
    undefined,
  ]);
  const delayed = deliveryReport({ ...facts, action: 'delayed', until: 86_400_000 }).toString();
  expect(delayed).toMatch(/Action: delayed[\s\S]*Will-Retry-Until: Fri, 02 Jan 1970/);
});

it('waits grow, are never all the same, and end after five days', () => {
  const waits = Array.from({ length: 9 }, (_none, at) => nextAttempt(at + 1, 0, 0, 0.5)).map((one) => (one.kind === 'again' ? one.at : -1));
  expect(waits).toEqual([...waits].sort((one, other) => one - other));
  expect([nextAttempt(1, 0, 0, 0), nextAttempt(1, 0, 0, 1)]).toEqual([
    { kind: 'again', at: 54_000 },
    { kind: 'again', at: 66_000 },
  ]);
  expect(nextAttempt(50, 0, GIVE_UP_AFTER - 1, 0.5)).toEqual({ kind: 'again', at: GIVE_UP_AFTER });
  expect(nextAttempt(50, 0, GIVE_UP_AFTER, 0.5)).toEqual({ kind: 'give-up' });
});

describe('where an address leads', () => {
  const aliases: Record<string, string[]> = {
    'all@x.example': ['ana@x.example', 'li@out.example', 'ANA+news@x.example'],
    'one@x.example': ['two@x.example'],
    'two@x.example': ['one@x.example'],
    'dead@x.example': ['gone@x.example'],
    'bigs@x.example': ['big@x.example'],
    'half@x.example': ['gone@x.example', 'ana@x.example'],
    ...Object.fromEntries(
      Array.from({ length: 11 }, (_, left) => [`step${left}@x.example`, [left === 0 ? 'ana@x.example' : `step${left - 1}@x.example`]]),
    ),
  };
  const plain = { id: 1, twinOf: null, catchAll: null };
  const directory: Directory = {
    domain: (name) =>
      ({
        'x.example': { ...plain, role: 'home' as const },
        'away.example': { ...plain, role: 'away' as const },
        'later.example': { ...plain, role: 'standby' as const },
        'twin.example': { ...plain, role: 'home' as const, twinOf: 'x.example' },
        'all.example': { ...plain, role: 'home' as const, catchAll: 'li@out.example' },
      })[name] ?? null,
    mailbox: (local) =>
      ({
        ana: { id: 7, full: null, copyTo: [] },
        fat: { id: 8, full: 'mailbox' as const, copyTo: [] },
        eve: { id: 9, full: null, copyTo: ['li@out.example', 'max@x.example', 'fat@x.example'] },
        max: { id: 10, full: null, copyTo: ['eve@x.example'] },
        big: { id: 11, full: 'mailbox' as const, copyTo: ['li@out.example'] },
        two: null,
      })[local] ?? null,
    standIn: (local) => (local === 'postmaster' ? { address: 'desk@out.example', payer: 'mail.host.example' } : null),
    alias: (local, domain) => aliases[`${local}@${domain}`] ?? null,
    moved: (local) =>
      ({
        went: { to: 'li@out.example', isLed: false },
        led: { to: 'li@out.example', isLed: true },
        silent: { to: null, isLed: true },
        postmaster: null,
      })[local] ?? null,
    trial: (local) => ({ 'try-open': { kind: 'open' as const, id: 5 }, 'try-over': { kind: 'over' as const } })[local] ?? null,
    returnTo: (local) =>
      ({ 'back.good': { kind: 'ok' as const, address: 'far@out.example' }, 'back.old': { kind: 'expired' as const } })[local] ?? null,
  };
  const lead = (text: string) => {
    const [local = '', domain = ''] = text.split('@');
    return routeRecipient({ local, domain }, directory, (target) => ({
      local: target.split('@')[0] ?? '',
      domain: target.split('@')[1] ?? '',
    }));
  };
  it('a mailbox forwards copies and keeps its own; mailboxes that copy to each other get one each, and a full one refuses first', () => {
    expect(lead('eve@x.example')).toMatchObject({
      kind: 'ok',
      destinations: [
        { kind: 'mailbox', address: 'eve@x.example' },
        { kind: 'outside', address: 'li@out.example', payer: 'x.example' },
        { kind: 'mailbox', address: 'max@x.example' },
        { kind: 'unready', address: 'fat@x.example', mailboxId: 8 },
      ],
    });
    expect(lead('max@x.example')).toMatchObject({
      kind: 'ok',
      destinations: [{ mailboxId: 10 }, { mailboxId: 9 }, { kind: 'outside' }, { kind: 'unready' }],
    });
    expect(lead('big@x.example')).toMatchObject({ kind: 'full', mailboxId: 11 });
    expect(lead('bigs@x.example')).toMatchObject({
      kind: 'ok',
      destinations: [
        { kind: 'unready', mailboxId: 11 },
        { kind: 'outside', address: 'li@out.example' },
      ],
    });
  });

  it('reaches each mailbox and each outside address once', () => {
    expect(lead('ALL@x.example')).toMatchObject({
      kind: 'ok',
      destinations: [
        { kind: 'mailbox', mailboxId: 7 },
        { kind: 'outside', address: 'li@out.example' },
      ],
    });
    expect(lead('ana+anything@x.example')).toMatchObject({ kind: 'ok', destinations: [{ mailboxId: 7 }] });
    // A target that can’t take mail is not left out: it waits, and is reported.
    expect(lead('half@x.example')).toMatchObject({ kind: 'ok', destinations: [{ kind: 'unready' }, { mailboxId: 7 }] });
    expect(lead('who@away.example')).toMatchObject({ kind: 'ok', destinations: [{ kind: 'outside', payer: null }] });
    expect(lead('all@x.example')).toMatchObject({ destinations: [{}, { address: 'li@out.example', payer: 'x.example' }] });
    expect(lead('ana+a@twin.example')).toMatchObject({ destinations: [{ mailboxId: 7 }], steps: [{ rule: 'twin' }, { rule: 'tag' }] });
    // What must reach somebody and has nobody is the provider’s to lead on, and to pay for.
    expect(lead('postmaster@x.example')).toMatchObject({ destinations: [{ address: 'desk@out.example', payer: 'mail.host.example' }] });
    expect(lead('whoever@all.example')).toMatchObject({ destinations: [{ address: 'li@out.example', payer: 'all.example' }] });
    expect(lead('a@later.example')).toMatchObject({ destinations: [{ kind: 'handed', role: 'standby' }] });
    // Whose owner has gone: their domain pays while mail is led on.
    expect(lead('led+a@x.example')).toMatchObject({ destinations: [{ address: 'li@out.example', payer: 'x.example' }] });
    expect(lead('back.good@x.example')).toMatchObject({ destinations: [{ kind: 'outside', address: 'far@out.example' }] });
  });
  it.each([
    ['one@x.example', 'loop'],
    // Ten aliases on the way are followed, and no eleventh.
    ['step9@x.example', 'ok'],
    ['step10@x.example', 'loop'],
    ['dead@x.example', 'unknown-mailbox'],
    ['nobody@x.example', 'unknown-mailbox'],
    ['fat@x.example', 'full'],
    ['back.old@x.example', 'return-expired'],
    ['went@x.example', 'moved'],
    ['went+tag@twin.example', 'moved'],
    ['silent@x.example', 'moved'],
    ['led@x.example', 'ok'],
    ['nobody@twin.example', 'unknown-mailbox'],
  ])('%s: %s', (address, kind) => expect(lead(address).kind).toBe(kind));
});

describe('where mail for outside is brought (RFC 5321 §5.1)', () => {
  const own = { name: 'mail.h.example', addresses: ['192.0.2.25'] };
  const hosts = (entries: Parameters<typeof lookupIn>[0], silent: string[] = []) =>
    findMailHosts('y.example', own, lookupIn(entries, silent), (values) => values);
  it('by preference, and by the domain’s own address without MX', async () => {
    expect(
      await hosts([
        ['y.example', 'MX', '20 b.y.example'],
        ['y.example', 'MX', '10 a.y.example'],
        ['a.y.example', 'A', '203.0.113.1'],
        ['b.y.example', 'AAAA', '2001:db8::2'],
      ]),
    ).toEqual({
      kind: 'hosts',
      hosts: [
        { name: 'a.y.example', address: '203.0.113.1' },
        { name: 'b.y.example', address: '2001:db8::2' },
      ],
    });
    expect(await hosts([['y.example', 'A', '203.0.113.1']])).toMatchObject({ kind: 'hosts' });
  });
  it('never in circles, never to a null MX, later when DNS is silent', async () => {
    expect(await hosts([['y.example', 'MX', '0 ']])).toMatchObject({ kind: 'never', status: '5.1.10' });
    expect(
      await hosts([
        ['y.example', 'MX', '10 mail.h.example'],
        ['y.example', 'MX', '20 b.y.example'],
      ]),
    ).toMatchObject({ kind: 'never', status: '5.4.6' });
    expect(
      await hosts([
        ['y.example', 'MX', '10 a.y.example'],
        ['a.y.example', 'A', '192.0.2.25'],
      ]),
    ).toMatchObject({ kind: 'never', status: '5.4.4' });
    expect(await hosts([])).toMatchObject({ kind: 'never', status: '5.1.2' });
    expect(await hosts([], ['y.example'])).toMatchObject({ kind: 'later' });
    expect(await hosts([['y.example', 'MX', '10 a.y.example']], ['a.y.example'])).toMatchObject({ kind: 'later' });
  });
});
