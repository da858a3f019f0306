import { generateKeyPairSync, sign } from 'node:crypto';
import { readFileSync } from 'node:fs';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { prepareSignatures } from '../../src/core/dkim/sign.ts';
import type { Lookup } from '../../src/core/records/answers.ts';
import { MESSAGE_CODES, MESSAGE_WORTH } from '../../src/core/trial/catalogue.ts';
import type { TrialFacts } from '../../src/core/trial/facts.ts';
import { readMessage } from '../../src/core/trial/reading.ts';
import { scoreMessage } from '../../src/core/trial/score.ts';
import { MESSAGE_SUBJECTS } from '../../src/core/vocabulary.ts';
import { at, type Entry, lookupIn } from '../support/lookup.ts';

const NOW = Date.UTC(2026, 10, 24, 8, 30);
const HOW = { blockLists: ['lists.example'], receiver: 'mx.far.example' };
const facts: TrialFacts = {
  client: { address: '192.0.2.25', greeting: 'mail.shop.example' },
  sender: 'ana@shop.example',
  tls: true,
  at: NOW,
  domainHere: null,
};
const { privateKey, publicKey } = generateKeyPairSync('rsa', { modulusLength: 2048 });
const short = generateKeyPairSync('rsa', { modulusLength: 1024 });
const keyText = (key: typeof publicKey): string => `v=DKIM1; k=rsa; p=${key.export({ type: 'spki', format: 'der' }).toString('base64')}`;
const WORLD: Entry[] = [
  at('shop.example', 'MX', '10 mail.shop.example'),
  at('shop.example', 'TXT', 'v=spf1 a:mail.shop.example -all'),
  at('_dmarc.shop.example', 'TXT', 'v=DMARC1; p=reject'),
  at('k1._domainkey.shop.example', 'TXT', keyText(publicKey)),
  at('mail.shop.example', 'A', '192.0.2.25'),
  at('25.2.0.192.in-addr.arpa', 'PTR', 'mail.shop.example'),
];
/** The world without some records, and with others. */
const world = (without: RegExp, ...more: Entry[]): Entry[] => [
  ...WORLD.filter((one) => !without.test(`${one[1]} ${one[0]} ${one[2]}`)),
  ...more,
];

const HEADER = {
  From: 'Ana <ana@shop.example>',
  To: 'leo@far.example',
  Subject: 'Your order',
  Date: 'Tue, 24 Nov 2026 08:29:00 +0000',
  'Message-ID': '<1@shop.example>',
  'MIME-Version': '1.0',
  'Content-Type': 'text/plain; charset=utf-8',
};
type Header = Partial<Record<string, string | string[] | null>>;
const letter = (fields: Header = {}, body = 'Two loaves of rye are ready from nine on.\r\n'): Buffer => {
  const lines = Object.entries({ ...HEADER, ...fields }).flatMap(([name, value]) =>
    value === null || value === undefined ? [] : [value].flat().map((one) => `${name}: ${one}`),
  );
  return Buffer.from(`${lines.join('\r\n')}\r\n\r\n${body}`, 'latin1');
};
async function signed(message: Buffer, key = privateKey, domain = 'shop.example'): Promise<Buffer> {
  const [prepared] = await prepareSignatures(message, { domain, keys: [{ selector: 'k1', type: 'rsa' }], at: NOW / 1000 });
  return Buffer.concat([Buffer.from(prepared?.field(sign('sha256', prepared.input, key)) ?? ''), message]);
}
const html = (text: string, plain: string | null = null): [Header, string] =>
  plain === null
    ? [{ 'Content-Type': 'text/html; charset=utf-8' }, text]
    : [
        { 'Content-Type': 'multipart/alternative; boundary=b' },
        `--b\r\nContent-Type: text/plain\r\n\r\n${plain}\r\n--b\r\nContent-Type: text/html\r\n\r\n${text}\r\n--b--\r\n`,
      ];
const WORDS = 'almond brioche cinnamon dough flour ginger hazelnut iced jam kernel lemon muffin nutmeg oats pastry';
const file = (name: string): [Header, string] => [
  { 'Content-Type': 'multipart/mixed; boundary=b' },
  `--b\r\n\r\nHere it is.\r\n--b\r\nContent-Type: application/octet-stream\r\nContent-Disposition: attachment; filename="${name}"\r\n\r\nx\r\n--b--\r\n`,
];
const scored = async (message: Buffer, known: TrialFacts, how: typeof HOW, lookup: Lookup) =>
  scoreMessage(message, await readMessage(message, known.at), known, how, lookup);
const codesOf = async (message: Buffer, entries = WORLD, known: Partial<TrialFacts> = {}, silent: string[] = []): Promise<string[]> =>
  (await scored(message, { ...facts, ...known }, HOW, lookupIn(entries, silent))).findings
    .filter((one) => one.verdict !== 'good')
    .map((one) => one.code);

it('a good letter is worth a hundred points, with a finding for each subject', async () => {
  const score = await scored(await signed(letter()), facts, HOW, lookupIn(WORLD));
  expect(score.findings.filter((one) => one.verdict !== 'good')).toEqual([]);
  expect(score).toMatchObject({ points: 100, outOf: 100 });
  expect(new Set(score.findings.map((one) => one.subject))).toEqual(new Set(MESSAGE_SUBJECTS));
});

describe('each fault has its code', () => {
  it.each<[string, string[], Header?, string?]>([
    ['no Date', ['fields-date-missing'], { Date: null }],
    ['a Date that is none', ['fields-date-broken'], { Date: 'yesterday' }],
    ['a Date of next week', ['fields-date-far'], { Date: 'Tue, 1 Dec 2026 08:29:00 +0000' }],
    ['a Date of last year', ['fields-date-far'], { Date: 'Mon, 24 Nov 2025 08:29:00 +0000' }],
    ['no Message-ID', ['fields-id-missing'], { 'Message-ID': null }],
    ['a Message-ID that is none', ['fields-id-broken'], { 'Message-ID': '1@shop.example' }],
    ['no subject', ['fields-subject-missing'], { Subject: '  ' }],
    ['To nobody', ['fields-to-missing'], { To: null }],
    ['two subjects', ['fields-doubled'], { Subject: ['Your order', 'You have won'] }],
    ['an answer to nothing', ['fields-false-answer'], { Subject: 'RE: invoice' }],
    ['an answer to something', [], { Subject: 'Re: invoice', 'In-Reply-To': '<0@far.example>' }],
    ['another address for a name', ['fields-name-is-address'], { From: '"boss@bank.example" <ana@shop.example>' }],
    ['its own address for a name', [], { From: '"ana@shop.example" <ana@shop.example>' }],
    ['letters beyond ASCII in the header', ['fields-eight-bit'], { Subject: 'caf\xe9' }],
    ['HTML alone', ['parts-html-only'], ...html(`<p>${WORDS}</p>`)],
    ['both, alike', [], ...html(`<p>${WORDS.replaceAll(' ', '</p><p>')}</p>`, WORDS)],
    ['both, unlike', ['parts-differ'], ...html(`<p>${WORDS.split('').reverse().join('')}</p>`, WORDS)],
    [
      'a stub',
      ['parts-stub'],
      ...html(
        `<p>${WORDS} ${[...'abcdefghijklmnopqrstuvwxyzabcd'].map((one, n) => one.repeat(4) + n).join(' ')}</p>`,
        'See the other part.',
      ),
    ],
    ['pictures alone', ['parts-pictures', 'parts-html-only'], ...html('<img src="cid:1"><img src="cid:2">')],
    ['nothing at all', ['parts-empty'], {}, ''],
    ['a boundary that is never closed', ['parts-broken'], { 'Content-Type': 'multipart/mixed; boundary=b' }, '--b\r\n\r\nWords enough\r\n'],
    ['no boundary', ['parts-broken', 'parts-empty'], { 'Content-Type': 'multipart/mixed; boundary=b' }, 'Words enough\r\n'],
    ['no MIME-Version', ['parts-unversioned'], { 'MIME-Version': null }],
    ['a charset of nobody', ['parts-charset'], { 'Content-Type': 'text/plain; charset=klingon' }],
    ['octets that are no ASCII', ['parts-eight-bit'], {}, 'caf\xc3\xa9 con leche\r\n'],
    ['a long line', ['parts-long-line'], {}, `${'word '.repeat(200)}\r\n`],
    [
      'a link to another host',
      ['links-other-host', 'parts-html-only'],
      ...html(`${WORDS} <a href="https://evil.example/x">www.bank.example</a>`),
    ],
    [
      'a link with a host before its @',
      ['links-other-host', 'parts-html-only'],
      ...html(`${WORDS} <a href="https://bank.example@evil.example/">here</a>`),
    ],
    [
      'a link within one organisation',
      ['parts-html-only'],
      ...html(`${WORDS} <a href="https://cdn.bank.example/x">https://www.bank.example</a>`),
    ],
    [
      'a link that names another host among its words',
      ['links-other-host', 'parts-html-only'],
      ...html(`${WORDS} <a href="https://evil.example/x">Log in at (https://www.bank.example/login).</a>`),
    ],
    ['a link about a program', ['parts-html-only'], ...html(`${WORDS} <a href="https://evil.example/x">all of node.js today</a>`)],
    [
      'an area of a picture that names another host',
      ['links-other-host', 'parts-html-only'],
      ...html(`${WORDS} <map><area href="https://evil.example/x" alt="www.bank.example"></map>`),
    ],
    [
      'a form that leads to an address',
      ['links-address', 'parts-html-only'],
      ...html(`${WORDS} <form action="https://192.0.2.7/x"><button>go</button></form>`),
    ],
    [
      'a button that leads there',
      ['links-address', 'parts-html-only'],
      ...html(`${WORDS} <form><button formaction="https://192.0.2.7/x">go</button></form>`),
    ],
    ['the name of a file as a link', ['parts-html-only'], ...html(`${WORDS} <a href="https://evil.example/x">menu.pdf</a>`)],
    ['a link to an address', ['links-address', 'parts-html-only'], ...html(`${WORDS} <a href="https://[2001:db8::1]/x">menu</a>`)],
    ['a link in clear', ['parts-html-only', 'links-in-clear'], ...html(`${WORDS} <a href="http://shop.example/">menu</a>`)],
    ['a program', ['attachments-program'], ...file('setup.EXE')],
    ['a program in disguise', ['attachments-two-endings'], ...file('invoice.pdf.js. ')],
    ['macros', ['attachments-macros'], ...file('sums.xlsm')],
    ['an archive', ['attachments-archive'], ...file('photos.zip')],
    ['a document', [], ...file('menu.pdf')],
    ['to many, without a way out', ['list-no-way-out'], { Precedence: 'bulk' }],
    ['to many, without one click', ['list-no-one-click'], { 'List-Unsubscribe': '<mailto:out@shop.example>' }],
    [
      'to many, with one click',
      [],
      { 'List-Unsubscribe': '<https://shop.example/out>', 'List-Unsubscribe-Post': 'List-Unsubscribe=One-Click' },
    ],
    ['large', ['size-large'], {}, 'Two loaves of rye are ready.\r\n'.repeat(200_000)],
    ['long HTML', ['parts-html-only', 'size-html'], ...html(`<p>${WORDS}</p>\r\n`.repeat(1200))],
  ])('%s', async (_what, codes, fields = {}, body = undefined) => {
    expect(await codesOf(await signed(letter(fields, body)))).toEqual(codes);
  });

  it.each<[string, string[], Entry[], Partial<TrialFacts>?]>([
    ['no SPF', ['spf-none'], world(/v=spf1/)],
    ['SPF forbids', ['spf-fail'], world(/v=spf1/, at('shop.example', 'TXT', 'v=spf1 -all'))],
    ['SPF doubts', ['spf-softfail'], world(/v=spf1/, at('shop.example', 'TXT', 'v=spf1 ~all'))],
    ['SPF shrugs', ['spf-neutral'], world(/v=spf1/, at('shop.example', 'TXT', 'v=spf1 ?all'))],
    ['SPF is broken', ['spf-permerror'], world(/v=spf1/, at('shop.example', 'TXT', 'v=spf1 ipv4:x -all'))],
    ['no key', ['dkim-broken', 'dmarc-spf-alone'], world(/_domainkey/)],
    ['no DMARC', ['dmarc-none'], world(/_dmarc/)],
    ['DMARC is broken', ['dmarc-permerror'], world(/_dmarc/, at('_dmarc.shop.example', 'TXT', 'v=DMARC1; p=perhaps'))],
    ['DMARC watches', ['dmarc-watching'], world(/_dmarc/, at('_dmarc.shop.example', 'TXT', 'v=DMARC1; p=none'))],
    ['nothing is proven', ['dmarc-fail', 'dkim-broken', 'spf-none'], world(/_domainkey|v=spf1/)],
    ['no name of the address', ['reverse-none'], world(/^PTR /)],
    ['a name that leads elsewhere', ['reverse-not-back'], world(/^PTR /, at('25.2.0.192.in-addr.arpa', 'PTR', 'far.example'))],
    ['listed', ['block-lists-listed'], world(/^$/, at('25.2.0.192.lists.example', 'A', '127.0.0.2'))],
    ['a list gone wrong', [], world(/^$/, at('25.2.0.192.lists.example', 'A', '198.51.100.1'))],
    [
      'no way back',
      ['spf-none', 'envelope-no-way-back'],
      world(/^$/, at('bounce.shop.example', 'TXT', 'x')),
      { sender: 'x@bounce.shop.example' },
    ],
    ['a null MX', ['envelope-no-way-back'], world(/^MX /, at('shop.example', 'MX', '0 '))],
    ['no MX, and an address', [], world(/^MX /, at('shop.example', 'A', '192.0.2.25'))],
    ['in clear', ['tls-none'], WORLD, { tls: false }],
    ['greets as an address', ['greeting-no-name'], WORLD, { client: { address: '192.0.2.25', greeting: '[192.0.2.25]' } }],
    ['greets as nobody', ['greeting-nowhere'], WORLD, { client: { address: '192.0.2.25', greeting: 'laptop.shop.example' } }],
    [
      'greets as somebody else',
      ['greeting-elsewhere'],
      world(/^$/, at('x.shop.example', 'A', '192.0.2.9')),
      { client: { address: '192.0.2.25', greeting: 'X.shop.example.' } },
    ],
  ])('%s', async (_what, codes, entries, known = {}) => {
    expect(await codesOf(await signed(letter()), entries, known)).toEqual(codes);
  });

  it('signatures: none, of a short key, of a stranger, of a part, and of a list', async () => {
    expect(await codesOf(letter())).toEqual(['dkim-none', 'dmarc-spf-alone']);
    const weak = world(/_domainkey/, at('k1._domainkey.shop.example', 'TXT', keyText(short.publicKey)));
    expect(await codesOf(await signed(letter(), short.privateKey), weak)).toEqual(['dkim-weak-key']);
    const other = world(/^$/, at('k1._domainkey.far.example', 'TXT', keyText(publicKey)));
    expect(await codesOf(await signed(letter(), privateKey, 'far.example'), other)).toEqual(['dmarc-spf-alone']);
    const changed = Buffer.concat([await signed(letter()), Buffer.from('And a word more.\r\n')]);
    expect(await codesOf(changed)).toEqual(['dkim-broken', 'dmarc-spf-alone']);
    const twice = Buffer.from((await signed(await signed(letter()))).toString('latin1').replace(/bh=[^;]+;/, 'bh=AAAA;'), 'latin1');
    expect(await codesOf(twice)).toEqual(['dkim-one-broken']);
    const fields = { 'List-Unsubscribe': '<https://shop.example/out>', 'List-Unsubscribe-Post': 'List-Unsubscribe=One-Click' };
    expect(await codesOf(letter(fields))).toContain('list-unsigned');
  });
});

it('what nobody answers costs nothing, earns nothing, and is never called missing', async () => {
  const deaf = await scored(await signed(letter()), facts, HOW, async () => ({ kind: 'failed', reason: 'no answer in time' }));
  const asked = ['spf', 'dkim', 'dmarc', 'reverse', 'greeting', 'block-lists', 'envelope'] as const;
  for (const subject of asked)
    expect(deaf.findings.filter((one) => one.subject === subject).map((one) => one.verdict)).toEqual(['unknown']);
  expect(deaf.outOf).toBe(100 - asked.reduce((sum, one) => sum + MESSAGE_WORTH[one], 0));
  expect(deaf.points).toBe(deaf.outOf);
  // Whether it is SPF or the key that keeps silent, DMARC may have passed.
  const half = await codesOf(await signed(letter()), world(/v=spf1/), {}, ['k1._domainkey.shop.example']);
  expect(half.sort()).toEqual(['dkim-unanswered', 'dmarc-unanswered', 'spf-none']);
});

it('what a smart host carries is judged by its signature alone', async () => {
  const score = await scored(await signed(letter()), { ...facts, client: null, tls: null }, HOW, lookupIn(WORLD));
  expect(score.findings.find((one) => one.subject === 'dmarc')?.code).toBe('dmarc-pass');
  expect(score).toMatchObject({ points: 62, outOf: 62 });
  expect(await codesOf(letter(), WORLD, { client: null })).toContain('dmarc-unanswered');
});

it('worth and costs agree, and each code has its line in docs/message-scores.md', () => {
  expect(Object.values(MESSAGE_WORTH).reduce((sum, one) => sum + one)).toBe(100);
  const text = readFileSync(new URL('../../docs/message-scores.md', import.meta.url), 'utf8');
  const written = [...text.matchAll(/^\| `([a-z0-9-]+)` \| ([a-z]+) \| (\d*) \|/gm)].map((found) => found.slice(1, 4).join(' '));
  const known = MESSAGE_SUBJECTS.flatMap((subject) =>
    Object.entries(MESSAGE_CODES[subject]).map(([code, { verdict, costs }]) => {
      expect(code.startsWith(`${subject}-`)).toBe(true);
      expect(costs).toBeLessThanOrEqual(MESSAGE_WORTH[subject]);
      return `${code} ${verdict} ${costs === 0 ? '' : costs}`;
    }),
  );
  expect(written.sort()).toEqual(known.sort());
});

it('whatever comes is scored, and the findings cost what is missing', async () => {
  const pieces = fc.oneof(
    fc.constantFrom(
      'From: a@b.example\r\n',
      'Content-Type: multipart/mixed; boundary=b\r\n',
      '\r\n',
      '--b\r\n',
      '--b--',
      '<a href="http://x">',
      'Date: ',
      '=?utf-8?q?=',
      'DKIM-Signature: v=1; ',
      ': ',
      '\xff',
      '"',
    ),
    fc.string({ maxLength: 40 }),
  );
  await fc.assert(
    fc.asyncProperty(fc.array(pieces, { maxLength: 30 }), fc.boolean(), async (all, answers) => {
      const lookup = answers ? lookupIn(WORLD) : async () => ({ kind: 'failed' as const, reason: 'no answer' });
      const { points, outOf, findings } = await scored(Buffer.from(all.join(''), 'latin1'), facts, HOW, lookup);
      expect(points).toBe(outOf - findings.reduce((sum, one) => sum + one.costs, 0));
      expect(points).toBeGreaterThanOrEqual(0);
      for (const subject of MESSAGE_SUBJECTS) expect(findings.some((one) => one.subject === subject)).toBe(true);
    }),
    { numRuns: 300 },
  );
});
