import { describe, expect, it } from 'vitest';
import { checkDomain } from '../../../src/core/checks/check-domain.ts';
import type { CheckFacts } from '../../../src/core/checks/domain-checks.ts';
import { leading } from '../../../src/core/checks/finding.ts';
import type { Views } from '../../../src/core/checks/views.ts';
import type { Answer, Lookup, RecordType } from '../../../src/core/records/answers.ts';
import { hostRecords } from '../../../src/core/records/sheet.ts';
import { type Entry, lookupIn } from '../../support/lookup.ts';
import { DOMAIN, dkimName, FACTS, GOOD, HOST, mx, only, ptr, without } from '../../support/shop.ts';

/** What is at the source, in caches, and on further name servers of a zone. */

describe('right at the source, old in caches', () => {
  /** A resolver that keeps what it heard. */
  const keeping = (entries: Entry[], ttl: number): Lookup => {
    const lookup = lookupIn(entries);
    return async (name, type) => ({ ...((await lookup(name, type)) as Answer<RecordType>), ttl, by: '192.0.2.53' }) as never;
  };
  const views = (source: Entry[], cached: Entry[], ttl = 240): Views => ({
    source: lookupIn(source),
    further: [],
    caches: [keeping(cached, ttl)],
    sibling: 'nobody',
  });
  const codes = async (pair: Views) =>
    leading(await checkDomain({ ...FACTS, stage: 'quarantine' }, pair))
      .filter((one) => one.subject !== 'discovery')
      .map((one) => one.code);

  it('is waiting, with the time left, for each subject', async () => {
    const old = [...without('TXT').filter(([, type]) => type !== 'MX'), [DOMAIN, 'MX', '10 mx.other.example'] as Entry];
    expect(await codes(views(GOOD, old))).toEqual(['mx-waiting', 'spf-waiting', 'dkim-waiting', 'dmarc-waiting', 'reverse-good']);
    expect((await codes(views(GOOD, ptr(['old.host.example'])))).at(-1)).toBe('reverse-waiting');
    const [one] = await checkDomain(FACTS, views(GOOD, old));
    expect(one).toMatchObject({ verdict: 'waiting', secondsLeft: 240, seen: ['10 mx.other.example'] });
    expect(one?.headline).toBe('Correct at the source; 192.0.2.53 still holds the old answer.');
    expect(one?.evidence.map(({ by }) => by)).toContain('192.0.2.53');
  });
  it('is not waiting for records of others at the same name, nor when the source is wrong', async () => {
    const other: Entry[] = [...GOOD, [DOMAIN, 'TXT', 'site-check=1'], ['_dmarc.shop.example', 'TXT', 'hello']];
    expect(await codes(views(GOOD, other))).toEqual(['mx-good', 'spf-good', 'dkim-good', 'dmarc-good', 'reverse-good']);
    expect((await codes(views(mx('10 mx.other.example'), GOOD)))[0]).toBe('mx-elsewhere');
  });
  it('a resolver without an answer proves nothing', async () => {
    const silent = lookupIn(
      [],
      [DOMAIN, dkimName, '_dmarc.shop.example', HOST.name, 'reserve.host.example', ...hostRecords(HOST).map((one) => one.name)],
    );
    expect(await codes({ source: lookupIn(GOOD), further: [], caches: [silent], sibling: 'nobody' })).toEqual([
      'mx-good',
      'spf-good',
      'dkim-good',
      'dmarc-good',
      'reverse-good',
    ]);
  });
});

describe('name servers of one zone that differ', () => {
  const MINUTE = 60_000;
  const server = (by: string, serial: number, entries: Entry[]): Lookup => {
    const lookup = lookupIn(entries);
    return async (name, type) => {
      if ((type as string) === 'SOA')
        return (
          name === DOMAIN
            ? { kind: 'found', values: [{ serial, refresh: 1200 }], ttl: 60, alias: null, by }
            : { kind: 'none', reason: 'no-such-record', by }
        ) as never;
      return { ...((await lookup(name, type)) as Answer<RecordType>), by } as never;
    };
  };
  const old = mx('10 mx.other.example');
  const looks = (first: [number, Entry[]], second: [number, Entry[]], facts: Partial<CheckFacts> = {}) =>
    checkDomain({ ...FACTS, ...facts }, { ...only(server('192.0.2.53', ...first)), further: [server('203.0.113.53', ...second)] });

  it('under one serial disagree; under two it is a lag, which counts down from when it was first seen, and ends in disagreement', async () => {
    expect((await looks([7, GOOD], [7, old]))[0]).toMatchObject({ code: 'mx-disagree', verdict: 'wrong', publish: [] });
    const first = await looks([8, GOOD], [7, old], { now: 0 });
    expect(first[0]).toMatchObject({ code: 'mx-waiting', secondsLeft: 1200, until: 20 * MINUTE });
    const later = await looks([9, GOOD], [7, old], { now: 15 * MINUTE, earlier: { checkedAt: 0, findings: first } });
    expect(later[0]).toMatchObject({ code: 'mx-waiting', secondsLeft: 300 });
    const over = await looks([9, GOOD], [7, old], { now: 31 * MINUTE, earlier: { checkedAt: 15 * MINUTE, findings: later } });
    expect(over[0]).toMatchObject({ code: 'mx-disagree' });
    expect(over[0]?.seen).toContain('203.0.113.53 (serial 7): MX shop.example is 10 mx.other.example');
    // It does not begin to wait again.
    expect((await looks([9, GOOD], [7, old], { now: 40 * MINUTE, earlier: { checkedAt: 31 * MINUTE, findings: over } }))[0]?.code).toBe(
      'mx-disagree',
    );
    expect((await looks([9, GOOD], [9, GOOD], { now: 41 * MINUTE, earlier: { checkedAt: 40 * MINUTE, findings: over } }))[0]?.code).toBe(
      'mx-good',
    );
  });
  it('the newest serial is the truth, whichever server was asked first', async () => {
    // Mended a moment ago, and the first server has not heard of it.
    const mended = await looks([7, old], [8, GOOD], { now: 0 });
    expect(mended[0]).toMatchObject({ code: 'mx-waiting', seen: ['10 mx.other.example'], secondsLeft: 1200 });
    expect(mended[0]?.headline).toContain('192.0.2.53 still holds the old answer');
    // Broken a moment ago: what is well is only old.
    expect((await looks([7, GOOD], [8, old]))[0]?.code).toBe('mx-elsewhere');
    expect((await looks([8, old], [7, GOOD]))[0]?.code).toBe('mx-elsewhere');
    // Serials go round (RFC 1982).
    expect((await looks([0xffffffff, old], [1, GOOD]))[0]?.code).toBe('mx-waiting');
    const over = await looks([7, old], [8, GOOD], { now: 31 * MINUTE, earlier: { checkedAt: 0, findings: mended } });
    expect(over[0]?.code).toBe('mx-disagree');
  });
  it('are what is wrong where only one of them is wrong, whichever was asked first', async () => {
    expect((await looks([7, old], [7, GOOD]))[0]?.code).toBe('mx-disagree');
    // Wrong at both is wrong, however they differ.
    expect((await looks([7, old], [7, mx('10 mx.third.example')]))[0]?.code).toBe('mx-elsewhere');
  });
  it('a resolver that keeps an old answer beyond its time is waited for no longer', async () => {
    const cache =
      (ttl: number): Lookup =>
      async (name, type) =>
        ({ ...((await lookupIn(old)(name, type)) as Answer<RecordType>), ttl, by: '192.0.2.1' }) as never;
    const seen = async (now: number, ttl: number, earlier: CheckFacts['earlier'] = null) =>
      checkDomain({ ...FACTS, now, earlier }, { ...only(lookupIn(GOOD)), caches: [cache(ttl)] });
    const first = await seen(0, 600);
    expect(first[0]).toMatchObject({ code: 'mx-waiting', secondsLeft: 600 });
    // One of several behind one address has another rest of time: that is no reason to begin again.
    const second = await seen(5 * MINUTE, 590, { checkedAt: 0, findings: first });
    expect(second[0]).toMatchObject({ code: 'mx-waiting', secondsLeft: 300 });
    const third = await seen(21 * MINUTE, 600, { checkedAt: 5 * MINUTE, findings: second });
    expect(third[0]).toMatchObject({ code: 'mx-late', verdict: 'weak' });
    expect((await seen(30 * MINUTE, 600, { checkedAt: 21 * MINUTE, findings: third }))[0]?.code).toBe('mx-late');
  });
});
