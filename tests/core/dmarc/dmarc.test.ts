import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { type DomainName, domainName } from '../../../src/core/address/domain.ts';
import type { DkimOutcome } from '../../../src/core/dkim/verify.ts';
import { evaluateDmarc } from '../../../src/core/dmarc/evaluate.ts';
import { mendedDmarc } from '../../../src/core/dmarc/mended.ts';
import { discoverDmarc, organisationalDomain, parseDmarc } from '../../../src/core/dmarc/record.ts';
import { nextStage, withTags } from '../../../src/core/dmarc/stages.ts';
import type { SpfResult } from '../../../src/core/spf/run.ts';
import { POLICIES, type Policy } from '../../../src/core/vocabulary.ts';
import { lookupIn } from '../../support/lookup.ts';

const spf = (result: SpfResult, domain: string) => ({ result, domain });
type Signed = Pick<DkimOutcome, 'result' | 'domain'>;
const dkim = (result: DkimOutcome['result'], domain: string): Signed => ({ result, domain });
const NO_SPF = spf('none', 'elsewhere.example');

const judge = async (
  record: string | null,
  from: string,
  spfOutcome = NO_SPF,
  signatures: Signed[] = [],
  at = '_dmarc.example.com',
  draw = 0,
) => {
  const name = domainName(from) as DomainName;
  return evaluateDmarc(
    name,
    await discoverDmarc(name, lookupIn(record === null ? [] : [[at, 'TXT', record]])),
    spfOutcome,
    signatures,
    draw,
  );
};

describe('alignment by the examples of RFC 7489 appendix B.1', () => {
  it.each([
    ['B.1.1 example 1: SPF in alignment', 'example.com', spf('pass', 'example.com'), [], 'pass'],
    ['B.1.1 example 2: SPF in alignment, parent', 'example.com', spf('pass', 'child.example.com'), [], 'pass'],
    ['B.1.1 example 3: SPF not in alignment', 'child.example.com', spf('pass', 'example.net'), [], 'fail'],
    ['B.1.2 example 1: DKIM in alignment', 'example.com', NO_SPF, [dkim('pass', 'example.com')], 'pass'],
    ['B.1.2 example 2: DKIM in alignment, parent', 'child.example.com', NO_SPF, [dkim('pass', 'example.com')], 'pass'],
    ['B.1.2 example 3: DKIM not in alignment', 'child.example.com', NO_SPF, [dkim('pass', 'example.net')], 'fail'],
    ['a failing signature does not count', 'example.com', NO_SPF, [dkim('fail', 'example.com')], 'fail'],
    [
      'one good signature among others is enough',
      'example.com',
      NO_SPF,
      [dkim('fail', 'example.com'), dkim('pass', 'mail.example.com')],
      'pass',
    ],
    ['softfail is no pass', 'example.com', spf('softfail', 'example.com'), [], 'fail'],
  ])('%s', async (_what, from, spfOutcome, signatures, result) => {
    expect((await judge('v=DMARC1; p=reject', from, spfOutcome, signatures)).result).toBe(result);
  });

  it('strict alignment wants the very same domain (§3.1)', async () => {
    const record = 'v=DMARC1; p=reject; adkim=s; aspf=s';
    expect((await judge(record, 'example.com', spf('pass', 'child.example.com'))).result).toBe('fail');
    expect((await judge(record, 'example.com', NO_SPF, [dkim('pass', 'child.example.com')])).result).toBe('fail');
    expect((await judge(record, 'example.com', spf('pass', 'example.com'))).result).toBe('pass');
  });
});

describe('what is to be done with what fails', () => {
  it.each([
    ['reject', 100, 99.9, 'reject'],
    ['reject', 20, 19.9, 'reject'],
    ['reject', 20, 20, 'quarantine'],
    ['quarantine', 0, 0, 'none'],
    ['none', 0, 50, 'none'],
  ])('p=%s; pct=%i, drawn %d: %s (§6.6.4)', async (policy, percent, draw, disposition) => {
    const record = `v=DMARC1; p=${policy}; pct=${percent}`;
    expect(await judge(record, 'example.com', NO_SPF, [], undefined, draw)).toMatchObject({ result: 'fail', policy, disposition });
  });
  it('the failing part is named', async () => {
    const outcome = await judge('v=DMARC1; p=reject', 'example.com', spf('pass', 'example.net'), [dkim('fail', 'example.com')]);
    expect(outcome.reason).toBe('SPF passes for example.net, which is not example.com, and DKIM gives fail for example.com');
  });
  it('a look-up that failed matters only where it could have aligned', async () => {
    expect((await judge('v=DMARC1; p=reject', 'example.com', spf('temperror', 'example.net'))).result).toBe('fail');
    expect((await judge('v=DMARC1; p=reject', 'example.com', NO_SPF, [dkim('temperror', 'mail.example.com')])).result).toBe('temperror');
  });
});

describe('the stages of a policy', () => {
  const DAY = 24 * 3600_000;
  const at = (goodSince: number | null, stageSince: number | null) => nextStage('none', { goodSince, stageSince, now: 100 * DAY });
  it.each([
    [86 * DAY, 80 * DAY, true],
    [86 * DAY + 1, 80 * DAY, false],
    [80 * DAY, 90 * DAY, false],
    [null, 80 * DAY, false],
    [80 * DAY, null, false],
  ])('good since %s, watching since %s: due %s', (good, stage, due) => expect(at(good, stage)).toMatchObject({ stage: 'quarantine', due }));
  it('ends at reject', () => expect(nextStage('reject', { goodSince: 0, stageSince: 0, now: 100 * DAY })).toBeNull());
  it('changes tags in their places', () => {
    expect(withTags('v=DMARC1;p=none; sp=none;rua=mailto:a@b.example', { p: 'reject', sp: null, pct: '50' })).toBe(
      'v=DMARC1; p=reject; rua=mailto:a@b.example; pct=50',
    );
  });
});

it('names the character at which a record breaks', () => {
  for (const [text, position] of [
    ['v=DMARC1; p=rejct', 10],
    ['v=DMARC1; p=none; adkim=x', 18],
    ['v=DMARC1; p=none; nonsense', 18],
    ['v=DMARC1', 8],
  ] as const) {
    const parsed = parseDmarc(text);
    expect(parsed.kind === 'ok' ? parsed.faults[0] : parsed).toMatchObject({ position });
  }
});

describe('discovery (§6.6.3)', () => {
  it('a subdomain inherits sp, else p, unless it has a record of its own', async () => {
    expect(await judge('v=DMARC1; p=reject; sp=none', 'a.b.example.com')).toMatchObject({ result: 'fail', policy: 'none' });
    expect(await judge('v=DMARC1; p=quarantine', 'a.example.com')).toMatchObject({ policy: 'quarantine' });
    expect(await judge('v=DMARC1; p=reject', 'a.example.com', NO_SPF, [], '_dmarc.a.example.com')).toMatchObject({ policy: 'reject' });
  });
  it.each([
    ['v=DMARC1; p=block; rua=mailto:a@example.com', 'fail'],
    [null, 'none'],
    ['v=spf1 -all', 'none'],
    ['v=DMARC1', 'permerror'],
    ['v=DMARC1; p=block', 'permerror'],
    ['v=DMARC1; p=none; p=reject', 'fail'],
    ['v=DMARC1; p=none; pct=101', 'fail'],
    ['v=DMARC1; p=none; rubbish', 'fail'],
    ['v=DMARC1;p=none', 'fail'],
    ['v = DMARC1 ; p = none ; rua = mailto:a@example.com', 'fail'],
  ])('%j gives %s', async (record, result) => expect((await judge(record, 'example.com')).result).toBe(result));
  it.each([
    'p=reject; rua=nonsense',
    'p=reject; rua=',
    'p=reject; rua=mailto:a@example.com, b@example.com',
    'p=reject; pct=lots',
    'p=reject; pct=250',
    'p=reject; pct=',
    'p=reject; adkim=x; aspf=relaxed',
    'p=reject; p=none',
    'p=reject; rubbish',
    'p=reject rubbish',
    'p=reject;;; =x; 1=2',
    'p=reject; sp=reject or so',
    'p=REJECT; fo=7; ri=soon; unheard=of',
  ])('“%s” rejects all the same (§6.3)', async (tags) => {
    expect(await judge(`v=DMARC1; ${tags}`, 'example.com')).toMatchObject({ result: 'fail', policy: 'reject', disposition: 'reject' });
  });
  it('what is passed over is named with its place, and left out of what is proposed', () => {
    expect(parseDmarc('v=DMARC1; p=reject junk; pct=101; rua=mailto:a@x.example,b@y.example; sp=none; rubbish')).toMatchObject({
      faults: [
        { reason: 'there is text after p=reject', position: 10 },
        { reason: 'pct=101 is not 0 to 100', position: 25 },
        { reason: 'rua= needs addresses like mailto:reports@shop.example', position: 34 },
        { reason: '"rubbish" is not a tag', position: 79 },
      ],
      clean: 'v=DMARC1; p=reject; sp=none; rua=mailto:a@x.example',
    });
  });
  it('two records are as none that can be used; silence is a temporary error', async () => {
    const two = lookupIn([
      ['_dmarc.example.com', 'TXT', 'v=DMARC1; p=none'],
      ['_dmarc.example.com', 'TXT', 'v=DMARC1; p=reject'],
    ]);
    expect(await discoverDmarc('example.com', two)).toMatchObject({ kind: 'invalid' });
    const name = domainName('example.com') as DomainName;
    const silent = evaluateDmarc(name, await discoverDmarc(name, lookupIn([], ['_dmarc.example.com'])), NO_SPF, [], 0);
    expect(silent).toMatchObject({ result: 'temperror', isPolicyKnown: false });
    expect((await judge('v=DMARC1; p=reject', 'example.com', spf('temperror', 'example.com'))).result).toBe('temperror');
  });
  it('the organisational domain follows the public suffix list', () => {
    for (const [name, owner] of [
      ['mail.shop.example.co.uk', 'example.co.uk'],
      ['a.b.shop.example', 'shop.example'],
      ['shop.example', 'shop.example'],
      ['example', 'example'],
    ] as const)
      expect(organisationalDomain(name)).toBe(owner);
  });
});

it('reads every tag, and no text makes it throw', () => {
  expect(parseDmarc('v=DMARC1; p=quarantine; sp=reject; adkim=s; pct=20; rua=mailto:a@x.example, mailto:b@y.example!10m')).toEqual({
    kind: 'ok',
    record: {
      policy: 'quarantine',
      subdomainPolicy: 'reject',
      strictDkim: true,
      strictSpf: false,
      percent: 20,
      reportsTo: ['a@x.example', 'b@y.example'],
    },
    faults: [],
    clean: 'v=DMARC1; p=quarantine; sp=reject; adkim=s; pct=20; rua=mailto:a@x.example, mailto:b@y.example!10m',
  });
  fc.assert(fc.property(fc.string(), (text) => ['ok', 'invalid'].includes(parseDmarc(`v=DMARC1; p=none; ${text}`).kind)));
});

describe('one record in the place of broken ones', () => {
  it.each([
    [['v=DMARC1; rua=mailto:d@shop.example'], 'none', 'v=DMARC1; p=none; rua=mailto:d@shop.example'],
    [['v=DMARC1; p=none', 'v=DMARC1; p=reject; sp=none'], 'none', 'v=DMARC1; p=reject; rua=mailto:own@shop.example'],
    [['v=DMARC1; p=quarantine; sp=all; adkim=s; fo=1'], 'none', 'v=DMARC1; p=quarantine; adkim=s; fo=1; rua=mailto:own@shop.example'],
    [['v=DMARC1; p=rejekt; rua=mailto:d@shop.example!10m'], 'quarantine', 'v=DMARC1; p=quarantine; rua=mailto:d@shop.example!10m'],
    [
      ['v=DMARC1; p=none; rua=mailto:d@shop.example', 'v=DMARC1; p=none; rua=mailto:e@shop.example,mailto:d@shop.example'],
      'none',
      'v=DMARC1; p=none; rua=mailto:d@shop.example,mailto:e@shop.example',
    ],
  ] as const)('%j', (texts, stage, mended) => {
    expect(mendedDmarc(texts, stage, 'own@shop.example')).toBe(mended);
  });

  it('is valid, no milder than any of them, and leaves nobody without the reports', () => {
    const tag = fc.oneof(
      fc.tuple(fc.constantFrom('p', 'sp'), fc.constantFrom('none', 'quarantine', 'reject', 'all', '')),
      fc.tuple(
        fc.constantFrom('rua', 'ruf'),
        fc.constantFrom('mailto:d@shop.example', 'mailto:e@shop.example,mailto:f@shop.example', 'd@shop.example'),
      ),
      fc.tuple(fc.constantFrom('adkim', 'aspf', 'pct', 'fo'), fc.constantFrom('s', 'r', '50', '1000', '1')),
    );
    const text = fc.array(tag, { maxLength: 6 }).map((tags) => ['v=DMARC1', ...tags.map(([name, value]) => `${name}=${value}`)].join('; '));
    fc.assert(
      fc.property(fc.array(text, { minLength: 1, maxLength: 3 }), fc.constantFrom(...POLICIES), (texts, stage) => {
        const parsed = parseDmarc(mendedDmarc(texts, stage, 'own@shop.example'));
        if (parsed.kind !== 'ok') throw new Error(parsed.reason);
        expect(parsed.faults).toEqual([]);
        const before = texts.map((one) => parseDmarc(one)).flatMap((one) => (one.kind === 'ok' ? [one.record] : []));
        const rank = (policy: Policy): number => POLICIES.indexOf(policy);
        expect(rank(parsed.record.policy)).toBeGreaterThanOrEqual(Math.max(rank(stage), ...before.map((one) => rank(one.policy))));
        for (const one of before) expect(parsed.record.reportsTo).toEqual(expect.arrayContaining(one.reportsTo));
      }),
    );
  });
});
