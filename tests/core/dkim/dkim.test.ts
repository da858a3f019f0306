import { createHash, generateKeyPairSync, sign } from 'node:crypto';
import fc from 'fast-check';
import nodemailer from 'nodemailer';
import { describe, expect, it } from 'vitest';
import { BodyHash } from '../../../src/core/dkim/body-hash.ts';
import { canonicalBody, canonicalField } from '../../../src/core/dkim/canonical.ts';
import { keyRecordText, parseKeyRecord } from '../../../src/core/dkim/key-record.ts';
import { isSelector } from '../../../src/core/dkim/selector.ts';
import { prepareSignatures } from '../../../src/core/dkim/sign.ts';
import { parseSignature } from '../../../src/core/dkim/signature.ts';
import { DkimVerifier, verifyDkim } from '../../../src/core/dkim/verify.ts';
import { parseFields } from '../../../src/core/message/fields.ts';
import { lookupIn } from '../../support/lookup.ts';

const { privateKey, publicKey } = generateKeyPairSync('rsa', { modulusLength: 2048 });
const published = publicKey.export({ format: 'der', type: 'spki' }).toString('base64');
const NOW = 1_790_000_000_000;
const edwards = generateKeyPairSync('ed25519');
const edwardsPublic = edwards.publicKey.export({ format: 'der', type: 'spki' }).subarray(-32).toString('base64');
const lookup = lookupIn([
  ['k1._domainkey.shop.example', 'TXT', keyRecordText(published)],
  ['e1._domainkey.shop.example', 'TXT', keyRecordText(edwardsPublic, 'ed25519')],
]);

async function signed(message: Buffer): Promise<Buffer> {
  const keys = [
    { selector: 'k1', type: 'rsa' },
    { selector: 'e1', type: 'ed25519' },
  ] as const;
  const [rsa, ed] = await prepareSignatures(message, { domain: 'shop.example', keys, at: NOW / 1000 });
  if (!rsa || !ed) throw new Error('not prepared');
  const fields = rsa.field(sign('sha256', rsa.input, privateKey)) + ed.field(sign(null, ed.input, edwards.privateKey));
  return Buffer.concat([Buffer.from(fields, 'latin1'), message]);
}

/** The message of both RFCs; only the space between its sentences differs. */
const dinner = (news: string): string[] => [
  'From: Joe SixPack <joe@football.example.com>',
  'To: Suzie Q <suzie@shopping.example.net>',
  'Subject: Is dinner ready?',
  'Date: Fri, 11 Jul 2003 21:00:37 -0700 (PDT)',
  'Message-ID: <20030712040037.46341.5F8J@football.example.com>',
  '',
  'Hi.',
  '',
  news,
  '',
  'Joe.',
  '',
];

describe('known answers', () => {
  it('canonicalises the example of RFC 6376 §3.4.5', () => {
    const body = Buffer.from(' C \r\nD \t E\r\n\r\n\r\n');
    expect(canonicalField('A: X', 'relaxed')).toBe('a:X');
    // The last octet of “à” alone would be a space of Latin-1.
    const text = (value: string): string => Buffer.from(value, 'utf8').toString('latin1');
    expect(canonicalField(text('Subject:\tvoil\u00e0 \t'), 'relaxed')).toBe(text('subject:voil\u00e0'));
    expect(parseFields(Buffer.from('Subject:  voil\u00e0\t\r\n\r\n'))[0]?.value).toBe(text('voil\u00e0'));
    expect(canonicalField('B : Y\t\r\n\tZ  ', 'relaxed')).toBe('b:Y Z');
    expect(canonicalBody(body, 'relaxed').toString()).toBe(' C\r\nD E\r\n');
    expect(canonicalBody(body, 'simple').toString()).toBe(' C \r\nD \t E\r\n');
    expect(canonicalBody(Buffer.alloc(0), 'simple').toString()).toBe('\r\n');
    expect(canonicalBody(Buffer.alloc(0), 'relaxed').toString()).toBe('');
  });

  it('verifies the signature of RFC 6376 appendix A.2', async () => {
    const message = [
      'DKIM-Signature: v=1; a=rsa-sha256; s=brisbane; d=example.com;',
      '      c=simple/simple; q=dns/txt; i=joe@football.example.com;',
      '      h=Received : From : To : Subject : Date : Message-ID;',
      '      bh=2jUSOH9NhtVGCQWNr9BrIAPreKQjO6Sn7XIkfJVOzv8=;',
      '      b=AuUoFEfDxTDkHlLXSZEpZj79LICEps6eda7W3deTVFOk4yAUoqOB',
      '        4nujc7YopdG5dWLSdNg6xNAZpOPr+kHxt1IrE+NahM6L/LbvaHut',
      '        KVdkLLkpVaVVQPzeRDI009SO2Il5Lu7rDNH6mZckBdrIx0orEtZV',
      '        4bmp/YzhwvcubU4=;',
      'Received: from client1.football.example.com  [192.0.2.1]',
      '      by submitserver.example.com with SUBMISSION;',
      '      Fri, 11 Jul 2003 21:01:54 -0700 (PDT)',
      ...dinner('We lost the game. Are you hungry yet?'),
    ].join('\r\n');
    // The key of appendix C.
    const key =
      'MIGfMA0GCSqGSIb3DQEBAQUAA4GNADCBiQKBgQDwIRP/UC3SBsEmGqZ9ZJW3/DkMoGeLnQg1fWn7/zYtIxN2SnFCjxOCKG9v3b4jYfcTNh5ijSsq631uBItLa7od+v/RtdC2UzJ1lWT947qR+Rcac2gbto/NMqJ0fzfVjH4OuKhitdY9tf6mcwGjaNBcWToIMmPSPDdQPNUYckcQ2QIDAQAB';
    const keys = lookupIn([['brisbane._domainkey.example.com', 'TXT', `v=DKIM1; p=${key}`]]);
    expect(await verifyDkim(Buffer.from(message), keys, NOW)).toMatchObject([{ result: 'pass', domain: 'example.com', mark: 'AuUoFEfD' }]);
    expect(await verifyDkim(Buffer.from(message.replace('dinner', 'Dinner')), keys, NOW)).toMatchObject([{ result: 'fail' }]);
  });

  it('verifies both signatures of RFC 8463 appendix A', async () => {
    const message = [
      'DKIM-Signature: v=1; a=ed25519-sha256; c=relaxed/relaxed;',
      ' d=football.example.com; i=@football.example.com;',
      ' q=dns/txt; s=brisbane; t=1528637909; h=from : to :',
      ' subject : date : message-id : from : subject : date;',
      ' bh=2jUSOH9NhtVGCQWNr9BrIAPreKQjO6Sn7XIkfJVOzv8=;',
      ' b=/gCrinpcQOoIfuHNQIbq4pgh9kyIK3AQUdt9OdqQehSwhEIug4D11Bus',
      ' Fa3bT3FY5OsU7ZbnKELq+eXdp1Q1Dw==',
      'DKIM-Signature: v=1; a=rsa-sha256; c=relaxed/relaxed;',
      ' d=football.example.com; i=@football.example.com;',
      ' q=dns/txt; s=test; t=1528637909; h=from : to : subject :',
      ' date : message-id : from : subject : date;',
      ' bh=2jUSOH9NhtVGCQWNr9BrIAPreKQjO6Sn7XIkfJVOzv8=;',
      ' b=F45dVWDfMbQDGHJFlXUNB2HKfbCeLRyhDXgFpEL8GwpsRe0IeIixNTe3',
      ' DhCVlUrSjV4BwcVcOF6+FF3Zo9Rpo1tFOeS9mPYQTnGdaSGsgeefOsk2Jz',
      ' dA+L10TeYt9BgDfQNZtKdN1WO//KgIqXP7OdEFE4LjFYNcUxZQ4FADY+8=',
      ...dinner('We lost the game.  Are you hungry yet?'),
    ].join('\r\n');
    const keys = lookupIn([
      ['brisbane._domainkey.football.example.com', 'TXT', 'v=DKIM1; k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo='],
      [
        'test._domainkey.football.example.com',
        'TXT',
        'v=DKIM1; k=rsa; p=MIGfMA0GCSqGSIb3DQEBAQUAA4GNADCBiQKBgQDkHlOQoBTzWRiGs5V6NpP3idY6Wk08a5qhdR6wy5bdOKb2jLQiY/J16JYi0Qvx/byYzCNb3W91y3FutACDfzwQ/BC/e/8uBsCR+yz1Lxj+PL6lHvqMKrM3rG4hstT5QjvHO9PzoxZyVYLzBfO2EeC3Ip3G+2kryOTIKT+l/K4w3QIDAQAB',
      ],
    ]);
    const outcomes = await verifyDkim(Buffer.from(message), keys, NOW);
    expect(outcomes.map((one) => [one.selector, one.result, one.reason])).toEqual([
      ['brisbane', 'pass', 'good signature'],
      ['test', 'pass', 'good signature'],
    ]);
  });

  it('verifies what another library has signed', async () => {
    const transport = nodemailer.createTransport({
      streamTransport: true,
      buffer: true,
      newline: 'windows',
      dkim: { domainName: 'shop.example', keySelector: 'k1', privateKey: privateKey.export({ format: 'pem', type: 'pkcs8' }).toString() },
    });
    const { message } = await transport.sendMail({
      from: 'ana@shop.example',
      to: 'li@other.example',
      subject: 'Señales  y   más',
      text: 'Hello,\n\n  two  spaces \n.dot\n',
      html: '<p>x</p>',
    });
    expect(await verifyDkim(message as Buffer, lookup, NOW)).toMatchObject([{ result: 'pass', domain: 'shop.example' }]);
  });
});

const word = fc.string({ unit: fc.constantFrom(...'abcXYZ09 \t.,;:=@<>'), maxLength: 30 });
const message = fc
  .tuple(word, fc.array(word, { maxLength: 6 }), fc.boolean())
  .map(([subject, lines, folded]) =>
    Buffer.from(
      `From: Ana <ana@shop.example>\r\nTo: li@other.example\r\nSubject: ${folded ? `a\r\n ${subject}x` : subject}\r\nDate: Mon, 23 Nov 2026 10:00:00 +0000\r\n\r\n${lines.map((line) => `${line}\r\n`).join('')}`,
    ),
  );

it('what we sign we verify, and any changed bit of it fails', async () => {
  await fc.assert(
    fc.asyncProperty(message, fc.nat(), fc.nat(7), async (original, at, bit) => {
      const whole = await signed(original);
      expect((await verifyDkim(whole, lookup, NOW)).map((one) => one.result)).toEqual(['pass', 'pass']);
      const changed = Buffer.from(whole);
      const start = whole.length - original.length;
      const position = start + (at % original.length);
      changed[position] = (changed[position] ?? 0) ^ (1 << bit);
      const outcomes = await verifyDkim(changed, lookup, NOW);
      // Relaxed canonicalisation forgives white space and the case of names (§3.4.2, §3.4.4); nothing else.
      const forgiven = canonicalWhole(changed) === canonicalWhole(whole);
      for (const outcome of outcomes) expect(outcome.result).toBe(forgiven ? 'pass' : 'fail');
    }),
    { numRuns: 150 },
  );
});

/** What a relaxed signature covers of such a message. */
function canonicalWhole(message: Buffer): string {
  const text = message.toString('latin1');
  const found = text.indexOf('\r\n\r\n');
  const split = found < 0 ? text.length : found;
  const named = text
    .slice(0, split)
    .split(/\r\n(?![ \t])/)
    .map((field) => canonicalField(field, 'relaxed'))
    .filter((field) =>
      /^(from|to|subject|date|cc|message-id|reply-to|in-reply-to|references|mime-version|content-type|content-transfer-encoding):/.test(
        field,
      ),
    );
  return `${named.sort().join('\n')}\n\n${split < 0 ? '' : canonicalBody(Buffer.from(text.slice(split + 4), 'latin1'), 'relaxed')}`;
}

const whole = (await signed(Buffer.from('From: ana@shop.example\r\nSubject: s\r\n\r\nbody\r\n'))).toString();

describe('signatures that do not count', () => {
  const judge = async (text: string, record: string | null = keyRecordText(published), silent: string[] = []) =>
    (await verifyDkim(Buffer.from(text), lookupIn(record === null ? [] : [['k1._domainkey.shop.example', 'TXT', record]], silent), NOW))[0];
  it.each([
    ['a second From', () => judge(`From: evil@other.example\r\n${whole}`), 'fail', 'signature does not verify'],
    ['a changed body', () => judge(whole.replace('body', 'Body')), 'fail', 'body hash differs'],
    ['no key', () => judge(whole, null), 'permerror', 'no key is published'],
    ['a revoked key', () => judge(whole, 'v=DKIM1; p='), 'permerror', 'key revoked'],
    ['a key cut short', () => judge(whole, keyRecordText(published.slice(0, 200))), 'permerror', 'key unusable'],
    ['silence', () => judge(whole, null, ['k1._domainkey.shop.example']), 'temperror', 'no answer for the key'],
    ['rsa-sha1', () => judge(whole.replace('rsa-sha256', 'rsa-sha1')), 'permerror', 'not accepted'],
    ['an expired one', () => judge(whole.replace(/x=\d+/, `x=${NOW / 1000 - 1}`).replace(/t=\d+/, 't=5')), 'fail', 'signature expired'],
    ['one that expires before it was made', () => judge(whole.replace(/x=\d+/, 'x=1000')), 'permerror', 'x= is not after t='],
    ['a way to the key that nobody knows', () => judge(whole.replace('v=1;', 'v=1; q=web/post;')), 'permerror', 'q= names no supported'],
    ['a broken number', () => judge(whole.replace('v=1;', 'v=1; l=-1;')), 'permerror', 'l= is not a number'],
    ['more than there is', () => judge(whole.replace('v=1;', 'v=1; l=9999;')), 'permerror', 'l= is longer than the body'],
    ['a key not for mail', () => judge(whole, `v=DKIM1; s=other; p=${published}`), 'permerror', 'not for mail'],
    ['a key for another hash', () => judge(whole, `v=DKIM1; h=sha1; p=${published}`), 'permerror', 'does not allow SHA-256'],
    ['a key whose version stands late', () => judge(whole, `k=rsa; v=DKIM1; p=${published}`), 'permerror', 'is not first'],
    ['a key of the other type', () => judge(whole, keyRecordText(edwardsPublic, 'ed25519')), 'permerror', 'key type and algorithm differ'],
    [
      'a key that forbids subdomains (t=s)',
      () => judge(whole.replace('v=1;', 'v=1; i=@sub.shop.example;'), `v=DKIM1; t=s; p=${published}`),
      'permerror',
      'forbids subdomains',
    ],
    ['a subdomain where the key allows it', () => judge(whole.replace('v=1;', 'v=1; i=@sub.shop.example;')), 'fail', 'does not verify'],
    ['one without From', () => judge(whole.replace('h=From:From', 'h=To:To')), 'permerror', 'From is not signed'],
    ['twice the same tag', () => judge(whole.replace('v=1;', 'v=1; v=1;')), 'permerror', 'is given twice'],
  ])('%s', async (_what, run, result, reason) => {
    const outcome = await run();
    expect(outcome).toMatchObject({ result });
    expect(outcome?.reason).toContain(reason);
  });
});

it('a key of 1024 bits is long enough, and of one bit less it is not (RFC 8301 §3.2)', async () => {
  const plain = Buffer.from('From: ana@shop.example\r\n\r\nbody\r\n');
  const [prepared] = await prepareSignatures(plain, { domain: 'shop.example', keys: [{ selector: 'k1', type: 'rsa' }], at: NOW / 1000 });
  const by = async (modulusLength: number) => {
    const pair = generateKeyPairSync('rsa', { modulusLength });
    const field = prepared?.field(sign('sha256', prepared.input, pair.privateKey)) ?? '';
    const record = keyRecordText(pair.publicKey.export({ format: 'der', type: 'spki' }).toString('base64'));
    const [outcome] = await verifyDkim(
      Buffer.concat([Buffer.from(field), plain]),
      lookupIn([['k1._domainkey.shop.example', 'TXT', record]]),
      NOW,
    );
    return [outcome?.result, outcome?.reason];
  };
  expect(await by(1024)).toEqual(['pass', 'good signature']);
  expect(await by(1023)).toEqual(['permerror', 'key of 1023 bits is too short']);
});

it('no key record makes it throw', () => {
  fc.assert(
    fc.property(
      fc.string(),
      fc.string({ unit: fc.constantFrom(...'AZaz09+/=; ') }),
      (before, key) => void parseKeyRecord(`${before}; p=${key}`),
    ),
  );
});

describe('each rule of a signature and of a key record, by one that keeps it and one that does not', () => {
  const TAGS = { v: '1', a: 'rsa-sha256', c: 'relaxed/relaxed', d: 'shop.example', s: 'k1', h: 'from', bh: 'AAAA', b: 'BBBB' };
  const parse = (changes: Record<string, string | null>) => {
    const value = Object.entries({ ...TAGS, ...changes })
      .filter(([, text]) => text !== null)
      .map(([name, text]) => `${name}=${text}`)
      .join('; ');
    return parseSignature({ name: 'DKIM-Signature', value, raw: `DKIM-Signature: ${value}` });
  };
  it.each<[string, Record<string, string | null>, object]>([
    ...['v', 'a', 'b', 'bh', 'd', 'h', 's'].map((tag): [string, Record<string, null>, object] => [
      `without ${tag}=`,
      { [tag]: null },
      { reason: `the tag ${tag}= is missing` },
    ]),
    ['an empty tag', { s: '' }, { reason: 'the tag s= is missing' }],
    ['another version', { v: '2' }, { reason: 'unknown signature version', domain: 'shop.example', selector: 'k1', value: 'BBBB' }],
    ['SHA-1', { a: 'rsa-sha1' }, { reason: 'the algorithm rsa-sha1 is not accepted' }],
    ['From not among the fields', { h: 'to:subject' }, { reason: 'From is not signed' }],
    ['as many fields as nobody signs', { h: `from${':x'.repeat(1999)}` }, { kind: 'ok' }],
    ['one more', { h: `from${':x'.repeat(2000)}` }, { reason: 'h= names more than 2000 fields' }],
    ['another way to the key', { q: 'web/x' }, { reason: 'q= names no supported query method' }],
    ['an identity elsewhere', { i: '@other.example' }, { reason: 'i= is not below d=' }],
    ['an identity that only ends like it', { i: 'x@myshop.example' }, { reason: 'i= is not below d=' }],
    ['an identity below it', { i: 'x@Mail.shop.example' }, { kind: 'ok', signature: { identityDomain: 'mail.shop.example' } }],
    ['an unknown canonicalisation', { c: 'loose/simple' }, { reason: 'unknown canonicalisation' }],
    ['an unknown one of the body', { c: 'simple/loose' }, { reason: 'unknown canonicalisation' }],
    ['three canonicalisations', { c: 'relaxed/relaxed/relaxed' }, { reason: 'c= has more than two parts' }],
    ['an identity without an @', { i: 'shop.example' }, { reason: 'i= holds no @' }],
    ['a domain with a final dot', { d: 'shop.example.' }, { reason: 'd= is not a domain name' }],
    ['none', { c: null }, { kind: 'ok', signature: { headerHow: 'simple', bodyHow: 'simple' } }],
    ['one for the header alone', { c: 'relaxed' }, { kind: 'ok', signature: { headerHow: 'relaxed', bodyHow: 'simple' } }],
    ['a length that is not a number', { l: '12x' }, { reason: 'the tag l= is not a number' }],
    ['a length', { l: '12' }, { kind: 'ok', signature: { length: 12, expires: null } }],
    ['an end without a beginning', { x: '10' }, { kind: 'ok', signature: { expires: 10 } }],
    ['an end at the beginning', { t: '10', x: '10' }, { reason: 'x= is not after t=' }],
    ['an end after the beginning', { t: '10', x: '11' }, { kind: 'ok', signature: { expires: 11 } }],
    [
      'spaces where they may be',
      { b: 'BB \t BB', h: 'From : To' },
      { kind: 'ok', signature: { signed: ['from', 'to'], value: Buffer.from('BBBB', 'base64') } },
    ],
    ['a tag twice', { 'd ': 'shop.example' }, { reason: 'signature unreadable: the tag d= is given twice' }],
    ['no tag at all', { '1x': 'y' }, { reason: 'signature unreadable: "1x=y" is not a tag' }],
    ['nothing before the sign', { '': 'y' }, { reason: 'signature unreadable: "=y" is not a tag' }],
  ])('a signature with %s', (_what, changes, expected) => {
    expect(parse(changes)).toMatchObject(expected);
  });

  it.each<[string, string, object]>([
    ['none of the optional tags', `p=${published}`, { kind: 'key', type: 'rsa', bits: 2048, testing: false, strict: false }],
    [
      'an Ed25519 key with an octet too many',
      `k=ed25519; p=${Buffer.concat([Buffer.from(edwardsPublic, 'base64'), Buffer.from([0])]).toString('base64')}`,
      { reason: 'its p= has 33 octets; an Ed25519 key has 32' },
    ],
    ['a version behind', `p=${published}; v=DKIM1`, { reason: 'its v= is not first' }],
    ['another version', `v=DKIM2; p=${published}`, { reason: 'its version is not DKIM1' }],
    ['an unknown type', `v=DKIM1; k=dsa; p=${published}`, { reason: 'its key type dsa is unknown' }],
    ['no key', 'v=DKIM1; k=rsa', { reason: 'it has no p= tag' }],
    ['an empty key', 'v=DKIM1; p= ', { kind: 'revoked' }],
    ['quotes', `v=DKIM1; p="${published}"`, { reason: 'its p= contains quotes' }],
    ['something before the key', `v=DKIM1; p=*${published}`, { reason: 'its p= is not base64' }],
    ['something behind the key', `v=DKIM1; p=${published}*`, { reason: 'its p= is not base64' }],
    ['a key cut short', `v=DKIM1; p=${published.slice(0, 80)}`, { reason: expect.stringContaining('truncated or broken') }],
    [
      'a key of another type',
      `v=DKIM1; p=${edwards.publicKey.export({ format: 'der', type: 'spki' }).toString('base64')}`,
      { reason: 'its p= holds no rsa key' },
    ],
    ['other services', `v=DKIM1; s=other; p=${published}`, { reason: 'it is not for mail (s=)' }],
    ['mail among the services', `v=DKIM1; s=other : email; p=${published}`, { kind: 'key' }],
    ['other hashes', `v=DKIM1; h=sha1; p=${published}`, { reason: 'it does not allow SHA-256 (h=)' }],
    ['both flags', `v=DKIM1; t=y : s; p=${published}`, { kind: 'key', testing: true, strict: true }],
    ['a short key of the other type', `v=DKIM1; k=ed25519; p=${edwardsPublic}`, { kind: 'key', type: 'ed25519', bits: 256 }],
    ['a text that is longer than what is kept', `v=DKIM1; n=${'x'.repeat(3000)}; p=${published}`, { kind: 'key', bits: 2048 }],
  ])('a key record with %s', (_what, text, expected) => {
    expect(parseKeyRecord(text)).toMatchObject(expected);
    // What was read lately is the same.
    expect(parseKeyRecord(text)).toMatchObject(expected);
  });

  it('a record that was read thousands of records ago is read anew', () => {
    const first = parseKeyRecord('v=DKIM1; n=first; p=');
    for (let number = 0; number < 2100; number += 1) parseKeyRecord(`v=DKIM1; n=${number}; p=`);
    expect(parseKeyRecord('v=DKIM1; n=2099; p=')).toBe(parseKeyRecord('v=DKIM1; n=2099; p='));
    expect(parseKeyRecord('v=DKIM1; n=first; p=')).not.toBe(first);
  });

  it('selectors are labels of a name', () => {
    const good = ['a', '1', 'k1', 'a-b', '2026.k1', `${'a'.repeat(63)}.b`, `${'a'.repeat(60)}.${'b'.repeat(59)}`];
    const bad = [
      '',
      'A',
      '-a',
      'a-',
      'a.',
      '.a',
      'a..b',
      'a.-b',
      'a_b',
      'a b',
      '*',
      `${'a'.repeat(64)}`,
      `a.${'b'.repeat(64)}`,
      `${'a'.repeat(60)}.${'b'.repeat(60)}`,
    ];
    expect(good.filter((text) => !isSelector(text))).toEqual([]);
    expect(bad.filter(isSelector)).toEqual([]);
  });
});

describe('what others sign in ways of their own', () => {
  const BODY = 'body\r\n';
  const bodyHash = createHash('sha256').update(BODY).digest('base64');
  /** Signs `header` by hand, with a field that holds these tags besides; `b=` stands where `B` does. */
  const signedBy = (header: string[], named: string, tags: (b: string) => string): Buffer => {
    const field = (b: string): string =>
      `DKIM-Signature: v=1; a=rsa-sha256; c=simple/simple; d=shop.example; s=k1; h=${named}; bh=${bodyHash}; ${tags(b)}`;
    const value = sign('sha256', Buffer.from([...header, field('')].join('\r\n')), privateKey).toString('base64');
    return Buffer.from(`${field(value)}\r\n${header.join('\r\n')}\r\n\r\n${BODY}`);
  };
  it.each<[string, (b: string) => string]>([
    ['b= last', (b) => `b=${b}`],
    ['b= folded, with something behind it', (b) => `b\r\n =${b}; t=1`],
    ['a b= within the copied fields of z=', (b) => `z=From:b=20x|To:; b=${b}`],
    ['a b= at the beginning of a value', (b) => `n=b=x; b=${b}`],
  ])('%s', async (_what, tags) => {
    const message = signedBy(['From: ana@shop.example'], 'from', tags);
    expect(await verifyDkim(message, lookup, NOW)).toMatchObject([{ result: 'pass' }]);
    expect(
      await verifyDkim(
        Buffer.from(message.toString().replace('From:b=20x', 'From:b=20y').replace('n=b=x', 'n=b=y').replace('t=1', 't=2')),
        lookup,
        NOW,
      ),
    ).toMatchObject([{ result: _what === 'b= last' ? 'pass' : 'fail' }]);
  });
  it('h= that names DKIM-Signature means the others, never the one that names it (§3.5)', async () => {
    const older = 'DKIM-Signature: v=1; a=rsa-sha256; d=other.example; s=x; h=from; bh=AA; b=AA';
    // Bottom up, and its own field is none of them: with no other there is nothing.
    const alone = signedBy(['From: ana@shop.example'], 'from:dkim-signature', (b) => `b=${b}`);
    expect(await verifyDkim(alone, lookup, NOW)).toMatchObject([{ result: 'pass' }]);
    const header = [older, 'From: ana@shop.example'];
    const both = signedBy(header, 'dkim-signature:from', (b) => `b=${b}`);
    expect((await verifyDkim(both, lookup, NOW))[0]).toMatchObject({ domain: 'shop.example', result: 'pass' });
    expect((await verifyDkim(Buffer.from(both.toString().replace('s=x', 's=y')), lookup, NOW))[0]).toMatchObject({ result: 'fail' });
  });
  it('a key that is published as a bare RSAPublicKey (§3.6.1)', async () => {
    const bare = publicKey.export({ format: 'der', type: 'pkcs1' }).toString('base64');
    expect(parseKeyRecord(keyRecordText(bare))).toMatchObject({ kind: 'key', type: 'rsa', bits: 2048 });
    const message = signedBy(['From: ana@shop.example'], 'from', (b) => `b=${b}`);
    expect(await verifyDkim(message, lookupIn([['k1._domainkey.shop.example', 'TXT', keyRecordText(bare)]]), NOW)).toMatchObject([
      { result: 'pass' },
    ]);
  });
});

describe('what we sign', () => {
  const MANY = `To: ${'a@b.example, '.repeat(9)}c@d.example\r\nReceived: one\r\nReceived: two\r\nCc: first@x.example\r\nCc: second@x.example\r\n`;
  const message = Buffer.from(`From: ana@shop.example\r\n${MANY}Subject: x\r\nDate: y\r\nMessage-ID: <z@shop.example>\r\n\r\nbody\r\n`);
  const prepare = async () =>
    (await prepareSignatures(message, { domain: 'shop.example', keys: [{ selector: 'k1', type: 'rsa' }], at: NOW / 1000 }))[0];

  it('names each field that is there once, and those that must not be added once more', async () => {
    const signature = parseSignature(parseFields(Buffer.from(`${(await prepare())?.field(Buffer.alloc(256))}\r\n`))[0] as never);
    expect(signature).toMatchObject({
      signature: {
        signed: ['from', 'from', 'to', 'to', 'cc', 'cc', 'subject', 'subject', 'date', 'date', 'message-id'],
        expires: NOW / 1000 + 30 * 24 * 3600,
      },
    });
  });

  it('keeps its lines short, and takes repeated fields from the bottom up (RFC 6376 §5.4.2)', async () => {
    const prepared = await prepare();
    const lines = prepared?.field(Buffer.alloc(512, 0xff)).trimEnd().split('\r\n') ?? [];
    expect(Math.max(...lines.map((line) => line.length))).toBeLessThanOrEqual(78);
    expect(lines.every((line, at) => at === 0 || line.startsWith('\t'))).toBe(true);
    // No line holds so little that the next one would have fitted.
    expect(lines.length).toBeLessThan(18);
    const input = prepared?.input.toString() ?? '';
    expect(input.indexOf('cc:second@x.example')).toBeGreaterThan(0);
    expect(input.indexOf('cc:second@x.example')).toBeLessThan(input.indexOf('cc:first@x.example'));
    expect(await verifyDkim(await signed(message), lookup, NOW)).toMatchObject([{ result: 'pass' }, { result: 'pass' }]);
    const swapped = Buffer.from(
      (await signed(message)).toString().replace('first@x', 'third@x').replace('second@x', 'first@x').replace('third@x', 'second@x'),
    );
    expect(await verifyDkim(swapped, lookup, NOW)).toMatchObject([{ result: 'fail' }, { result: 'fail' }]);
  });

  it('is believed up to the second of its end, and not after; a field put in front of it is seen', async () => {
    const text = await signed(message);
    const end = NOW + 30 * 24 * 3600_000;
    expect((await verifyDkim(text, lookup, end)).map((one) => one.result)).toEqual(['pass', 'pass']);
    expect((await verifyDkim(text, lookup, end + 1)).map((one) => one.reason)).toEqual(['signature expired', 'signature expired']);
    for (const name of ['From', 'To', 'Subject', 'Date'])
      expect(await verifyDkim(Buffer.concat([Buffer.from(`${name}: other\r\n`), text]), lookup, NOW), name).toMatchObject([
        { result: 'fail' },
        { result: 'fail' },
      ]);
  });
});

describe('a message in pieces, with many signatures', () => {
  const text = (body: string) => signed(Buffer.from(`From: ana@shop.example\r\nSubject: s\r\n\r\n${body}`));

  it('gives the same outcomes however it is cut', async () => {
    const body = fc.string({ unit: fc.constantFrom('a', ' ', '\t', '\r\n', '\r', '\n'), maxLength: 60 });
    await fc.assert(
      fc.asyncProperty(body, fc.array(fc.nat(700), { maxLength: 12 }), async (content, cuts) => {
        const whole = await text(content);
        const verifier = new DkimVerifier();
        let from = 0;
        for (const cut of [...cuts.sort((one, other) => one - other), whole.length]) {
          verifier.push(whole.subarray(from, cut));
          from = Math.max(from, cut);
        }
        const outcomes = await verifier.finish(lookup, NOW);
        expect(outcomes).toEqual(await verifyDkim(whole, lookup, NOW));
        expect(outcomes.map((one) => one.result)).toEqual(['pass', 'pass']);
      }),
      { numRuns: 100 },
    );
  });

  it('hashes each beginning as if it stood alone (l=)', () => {
    fc.assert(
      fc.property(
        fc.string({ unit: fc.constantFrom('a', ' ', '\r\n'), maxLength: 40 }),
        fc.array(fc.nat(60), { maxLength: 6 }),
        (body, lengths) => {
          for (const how of ['simple', 'relaxed'] as const) {
            const hash = new BodyHash(how, lengths);
            for (const octet of Buffer.from(body)) hash.push(Buffer.from([octet]));
            const digest = hash.finish();
            const canonical = canonicalBody(Buffer.from(body), how);
            const plain = (bytes: Buffer) => createHash('sha256').update(bytes).digest('base64');
            expect(digest(null)).toBe(plain(canonical));
            for (const length of lengths)
              expect(digest(length)).toBe(length > canonical.length ? null : plain(canonical.subarray(0, length)));
          }
        },
      ),
    );
  });

  it('reports each of many signatures, and looks at no more than a bounded number', async () => {
    const whole = (await text('body\r\n')).toString('latin1');
    const one = whole.slice(0, whole.indexOf('DKIM-Signature', 10));
    const counted = lookupIn([['k1._domainkey.shop.example', 'TXT', keyRecordText(published)]]);
    const outcomes = await verifyDkim(Buffer.from(one.repeat(70) + whole.slice(whole.indexOf('From: ana')), 'latin1'), counted, NOW);
    expect(outcomes.map((outcome) => outcome.result)).toEqual([...Array(8).fill('pass'), ...Array(56).fill('policy')]);
    expect(counted.asked).toHaveLength(8);
    // The author's own come first, wherever they stand.
    const others = one.replace('d=shop.example', 'd=other.example').repeat(20);
    const mixed = await verifyDkim(Buffer.from(others + one + whole.slice(whole.indexOf('From: ana')), 'latin1'), counted, NOW);
    expect(mixed.at(-1)).toMatchObject({ domain: 'shop.example', result: 'pass' });
    expect(mixed.filter((outcome) => outcome.result === 'policy')).toHaveLength(13);
  });

  it('a body of which l= leaves some unsigned is no pass; one that is signed to its end is', async () => {
    const signedWith = async (length: number, body: string): Promise<string> => {
      const header = 'From: ana@shop.example\r\n';
      const hash = createHash('sha256').update(body.slice(0, length)).digest('base64');
      const unsigned = `DKIM-Signature: v=1; a=rsa-sha256; c=relaxed/simple; d=shop.example; s=k1; l=${length}; bh=${hash}; h=from; b=`;
      const input = `${canonicalField(header.trimEnd(), 'relaxed')}\r\n${canonicalField(unsigned, 'relaxed')}`;
      const value = sign('sha256', Buffer.from(input), privateKey).toString('base64');
      const [outcome] = await verifyDkim(Buffer.from(`${unsigned}${value}\r\n${header}\r\n${body}`), lookup, NOW);
      return `${outcome?.result} ${outcome?.isPartOnly}`;
    };
    const body = 'Hello\r\nthere\r\n';
    for (const part of [0, 5, body.length - 1]) expect(await signedWith(part, body)).toBe('policy true');
    expect(await signedWith(body.length, body)).toBe('pass false');
  });

  it('tries each of several records at a selector (§3.6.2.2)', async () => {
    const records = ['v=DKIM1; p=', keyRecordText(published)].map(
      (record) => ['k1._domainkey.shop.example', 'TXT', record] as [string, 'TXT', string],
    );
    expect((await verifyDkim(await text('x'), lookupIn(records), NOW))[0]?.result).toBe('pass');
  });

  it('no octets make it throw', async () => {
    const field = fc.constantFrom(
      'v=1; ',
      'a=rsa-sha256; ',
      'h=from; ',
      'bh=; ',
      'b=AA==; ',
      'd=shop.example; ',
      's=k1; ',
      'c=x/y; ',
      'l=3; ',
      '=',
      ';;',
    );
    await fc.assert(
      fc.asyncProperty(fc.array(field), fc.uint8Array({ maxLength: 80 }), async (tags, rest) => {
        const octets = Buffer.concat([Buffer.from(`DKIM-Signature: ${tags.join('')}\r\nFrom: a@b\r\n`), Buffer.from(rest)]);
        for (const outcome of await verifyDkim(octets, lookup, NOW)) expect(outcome.result).not.toBe('pass');
      }),
    );
  });
});
