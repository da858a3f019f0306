import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { checkDomain } from '../../src/core/checks/check-domain.ts';
import { Gate } from '../../src/core/gate.ts';
import { lookUp } from '../../src/core/records/answers.ts';
import { Resolver } from '../../src/dns/resolver.ts';
import { ServerHealth } from '../../src/dns/server-health.ts';
import { SourceResolver } from '../../src/dns/source.ts';
import type { Server } from '../../src/dns/transport.ts';
import { StandInResolver } from '../../src/standins/caching-resolver.ts';
import { NAME_SERVER, StandInDns } from '../../src/standins/dns-server.ts';

const health = new ServerHealth(() => performance.now(), 1000);
// Two operators: one with the zones of most, and one to whom a part of a zone is delegated.
const main = new StandInDns();
const other = new StandInDns();
const OTHER = { name: 'ns.other.example', address: '203.0.113.54' };
let ports: Record<string, number>;
let resolver: StandInResolver;
let now = 0;

beforeAll(async () => {
  for (const zone of ['example', 'shop.example']) main.addZone(zone);
  main.publish({ name: NAME_SERVER.name, type: 'A', value: NAME_SERVER.address });
  main.publish({ name: OTHER.name, type: 'A', value: OTHER.address });
  main.publish({ name: 'shop.example', type: 'MX', value: '10 mail.shop.example', ttl: 600 });
  main.publish({ name: 'www.shop.example', type: 'CNAME', value: 'web.far.example' });
  other.addZone('deep.shop.example');
  other.addZone('far.example');
  other.publish({ name: 'deep.shop.example', type: 'TXT', value: 'here' });
  other.publish({ name: 'web.far.example', type: 'A', value: '203.0.113.9' });
  main.delegate('deep.shop.example', OTHER.name);
  main.delegate('far.example', OTHER.name);
  const mainPort = await main.listen();
  ports = { [NAME_SERVER.address]: mainPort, [OTHER.address]: await other.listen() };
  resolver = new StandInResolver({ address: '127.0.0.1', port: mainPort }, () => now);
});
afterAll(() => {
  main.close();
  other.close();
  resolver.close();
});
beforeEach(() => {
  now += 100_000_000;
});

const dial = (server: Server): Server => ({ address: '127.0.0.1', port: ports[server.address] ?? 1, known: server.address });
const opened = async () => {
  const server = { address: '127.0.0.1', port: await resolver.listen() };
  const stub = new Resolver({ servers: [server], timeoutMs: 300, tries: 1, now: () => now });
  return {
    stub: stub.lookup,
    source: new SourceResolver({ resolver: stub.lookup, timeoutMs: 300, dial, health, gate: new Gate(8) }).lookup,
  };
};

describe('the zone’s own name servers', () => {
  it('are found by delegation and asked past every cache', async () => {
    const { stub, source } = await opened();
    expect(await lookUp(stub, 'shop.example', 'MX')).toMatchObject({ kind: 'found', by: '127.0.0.1' });
    main.withdraw('shop.example', 'MX');
    now += 60_000;
    // The resolver keeps the old answer, with what is left of its time; the source has the new one.
    expect(await lookUp(stub, 'shop.example', 'MX')).toMatchObject({ kind: 'found', ttl: 540 });
    expect(await lookUp(source, 'shop.example', 'MX')).toEqual({
      kind: 'none',
      reason: 'no-such-record',
      ttl: 60,
      by: NAME_SERVER.address,
    });
    main.publish({ name: 'shop.example', type: 'MX', value: '10 mail.shop.example', ttl: 600 });
  });

  it('are followed where a part of a zone is delegated further', async () => {
    const { source } = await opened();
    expect(await lookUp(source, 'shop.example', 'MX')).toMatchObject({ by: NAME_SERVER.address });
    expect(await lookUp(source, 'deep.shop.example', 'TXT')).toMatchObject({ kind: 'found', values: ['here'], by: OTHER.address });
    expect(await lookUp(source, 'none.deep.shop.example', 'TXT')).toMatchObject({
      kind: 'none',
      reason: 'no-such-name',
      by: OTHER.address,
    });
  });

  it('are followed along an alias into another zone', async () => {
    const { source } = await opened();
    expect(await lookUp(source, 'www.shop.example', 'A')).toMatchObject({
      kind: 'found',
      values: ['203.0.113.9'],
      alias: 'web.far.example',
      by: OTHER.address,
    });
  });

  it('that come after the first are asked by themselves, so that one that lags behind shows', async () => {
    main.addZone('twice.example', [{ name: 'twice.example', type: 'NS', value: OTHER.name }]);
    other.addZone('twice.example');
    main.publish({ name: 'twice.example', type: 'MX', value: '10 new.example' });
    other.publish({ name: 'twice.example', type: 'MX', value: '10 old.example' });
    const server = { address: '127.0.0.1', port: await resolver.listen() };
    const stub = new Resolver({ servers: [server], timeoutMs: 300, tries: 1, now: () => now });
    const source = new SourceResolver({ resolver: stub.lookup, timeoutMs: 300, dial, health, gate: new Gate(8) });
    const exchange = async (lookup: typeof source.lookup) => {
      const answer = await lookUp(lookup, 'twice.example', 'MX');
      return answer.kind === 'found' ? `${answer.by} ${answer.values[0]?.exchange}` : answer.reason;
    };
    expect(await exchange(source.lookup)).toBe(`${NAME_SERVER.address} new.example`);
    expect(await exchange(source.further(1))).toBe(`${OTHER.address} old.example`);
    expect(await exchange(source.further(2))).toBe('the zone has no further name server');
    const views = { source: source.lookup, further: [1, 2, 3].map(source.further), caches: [], sibling: 'nobody' };
    const findings = await checkDomain(
      { domain: 'twice.example', role: 'away', host: { name: 'h.example', addresses: [] }, keys: [], stage: 'none', next: null },
      views,
    );
    // Both call it serial 1: that is no lag, and no wait ends it.
    const [finding] = findings;
    expect(finding).toMatchObject({ code: 'mx-disagree', verdict: 'wrong', publish: [] });
    expect(finding?.seen).toEqual([
      `${NAME_SERVER.address} (serial 1): MX twice.example is 10 new.example`,
      `${OTHER.address} (serial 1): MX twice.example is 10 old.example`,
    ]);
  });

  it('that are silent give no answer, which is not absence', async () => {
    const { source } = await opened();
    expect(await lookUp(source, 'shop.example', 'MX')).toMatchObject({ by: NAME_SERVER.address });
    other.silent.add('far.example');
    expect(await lookUp(source, 'web.far.example', 'A')).toMatchObject({
      kind: 'failed',
      reason: `${OTHER.address} did not answer in time`,
    });
    other.silent.delete('far.example');
  });

  it('that can’t be reached at all, from behind a firewall, leave the resolver’s answers', async () => {
    const { stub } = await opened();
    const walled = new SourceResolver({
      resolver: stub,
      timeoutMs: 100,
      dial: () => ({ address: '127.0.0.1', port: 1 }),
      health,
      gate: new Gate(8),
    });
    expect(await lookUp(walled.lookup, 'shop.example', 'MX')).toMatchObject({ kind: 'found', by: '127.0.0.1' });
    expect(await lookUp(walled.lookup, 'none.shop.example', 'A')).toMatchObject({ kind: 'none', by: '127.0.0.1' });
    main.silent.add('quiet.example');
    expect(await lookUp(walled.lookup, 'quiet.example', 'A')).toMatchObject({ kind: 'failed' });
  });

  it('that nobody names leave the resolver’s answer as all there is', async () => {
    const { source } = await opened();
    expect(await lookUp(source, 'x.unknown', 'A')).toMatchObject({ kind: 'failed' });
    for (const name of ['', 'a..b', 'a b.example', 'x'.repeat(64)])
      expect(await lookUp(source, name, 'A'), name).toMatchObject({ kind: 'none' });
  });
});
