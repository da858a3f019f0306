import { createSocket } from 'node:dgram';
import { once } from 'node:events';
import packet from 'dns-packet';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { lookUp } from '../../src/core/records/answers.ts';
import { askInTurn } from '../../src/dns/asking.ts';
import { Resolver } from '../../src/dns/resolver.ts';
import { ServerHealth } from '../../src/dns/server-health.ts';
import { askTcp, type Server } from '../../src/dns/transport.ts';
import { StandInDns } from '../../src/standins/dns-server.ts';

const dns = new StandInDns();
let port: number;
let now = 1_000_000;
const resolver = (servers = [port]): Resolver =>
  new Resolver({ servers: servers.map((one) => ({ address: '127.0.0.1', port: one })), timeoutMs: 120, tries: 2, now: () => now });

beforeAll(async () => {
  dns.addZone('shop.example', [
    { name: 'shop.example', type: 'MX', value: '10 mail.shop.example' },
    { name: 'shop.example', type: 'TXT', value: 'x'.repeat(300), ttl: 60 },
    { name: 'big.shop.example', type: 'TXT', value: 'y'.repeat(3000) },
    { name: 'www.shop.example', type: 'CNAME', value: 'web.shop.example' },
    { name: 'web.shop.example', type: 'A', value: '192.0.2.7' },
    { name: 'loop.shop.example', type: 'CNAME', value: 'loop2.shop.example' },
    { name: 'loop2.shop.example', type: 'CNAME', value: 'loop.shop.example' },
  ]);
  dns.silent.add('quiet.example');
  port = await dns.listen();
});
afterAll(() => dns.close());

it('finds values, joins strings, follows aliases', async () => {
  const { lookup } = resolver();
  expect(await lookUp(lookup, 'SHOP.example.', 'MX')).toMatchObject({
    kind: 'found',
    values: [{ preference: 10, exchange: 'mail.shop.example' }],
    ttl: 300,
    alias: null,
  });
  expect(await lookUp(lookup, 'shop.example', 'TXT')).toMatchObject({ kind: 'found', values: ['x'.repeat(300)], ttl: 60 });
  expect(await lookUp(lookup, 'www.shop.example', 'A')).toMatchObject({ kind: 'found', values: ['192.0.2.7'], alias: 'web.shop.example' });
});

it('tells no such name, no such record, and no answer apart', async () => {
  const { lookup } = resolver();
  expect(await lookUp(lookup, 'none.shop.example', 'A')).toEqual({ kind: 'none', reason: 'no-such-name', ttl: 60, by: '127.0.0.1' });
  expect(await lookUp(lookup, 'shop.example', 'AAAA')).toEqual({ kind: 'none', reason: 'no-such-record', ttl: 60, by: '127.0.0.1' });
  expect(await lookUp(lookup, 'quiet.example', 'A')).toMatchObject({ kind: 'failed' });
  expect(await lookUp(lookup, 'refused.elsewhere.example', 'A')).toMatchObject({ kind: 'failed', reason: '127.0.0.1 answered REFUSED' });
  expect(await lookUp(lookup, 'loop.shop.example', 'A')).toMatchObject({ kind: 'failed' });
  for (const name of [
    '',
    'a..b',
    `${'x'.repeat(64)}.example`,
    'y.'.repeat(200),
    'a b.example',
    'ñ.example',
    'a\r\n.example',
    'a\0b.example',
  ])
    expect(await lookUp(lookup, name, 'A'), name).toMatchObject({ kind: 'none' });
});

it('comes again by TCP when the reply is cut', async () => {
  expect(await lookUp(resolver().lookup, 'big.shop.example', 'TXT')).toMatchObject({ kind: 'found', values: ['y'.repeat(3000)] });
});

it('keeps an answer for its TTL and no longer, absence for what the SOA says, failure not at all', async () => {
  const one = resolver();
  const asked = (key: string): number => dns.asked.get(key) ?? 0;
  const before = { txt: asked('TXT shop.example'), none: asked('A gone.shop.example'), quiet: asked('A quiet.example') };
  await Promise.all([
    lookUp(one.lookup, 'shop.example', 'TXT'),
    lookUp(one.lookup, 'shop.example', 'TXT'),
    lookUp(one.lookup, 'shop.example', 'TXT'),
  ]);
  now += 59_000;
  expect(await lookUp(one.lookup, 'shop.example', 'TXT')).toMatchObject({ ttl: 1 });
  expect(asked('TXT shop.example') - before.txt).toBe(1);
  now += 1000;
  await lookUp(one.lookup, 'shop.example', 'TXT');
  expect(asked('TXT shop.example') - before.txt).toBe(2);
  for (const wait of [0, 59_000, 1000]) {
    now += wait;
    await lookUp(one.lookup, 'gone.shop.example', 'A');
  }
  expect(asked('A gone.shop.example') - before.none).toBe(2);
  await lookUp(one.lookup, 'quiet.example', 'A');
  await lookUp(one.lookup, 'quiet.example', 'A');
  expect(asked('A quiet.example') - before.quiet).toBe(4);
});

it('takes the next server when one is dead, and believes no reply but the right one', async () => {
  const liar = createSocket('udp4').bind(0, '127.0.0.1');
  await once(liar, 'listening');
  let lies = 0;
  liar.on('message', (bytes, from) => {
    const query = packet.decode(bytes);
    const answer = (id: number, name: string) =>
      packet.encode({
        type: 'response',
        id,
        questions: [{ type: 'A', name }],
        answers: [{ type: 'A', name, ttl: 60, data: '203.0.113.66' }],
      });
    // Another id, another question, noise, and the right reply from another port.
    for (const lie of [
      answer(((query.id ?? 0) + 1) % 65_536, 'web.shop.example'),
      answer(query.id ?? 0, 'other.example'),
      Buffer.from('noise'),
    ])
      liar.send(lie, from.port, from.address);
    const stranger = createSocket('udp4');
    stranger.send(answer(query.id ?? 0, 'web.shop.example'), from.port, from.address, () => stranger.close());
    lies += 1;
  });
  const { lookup } = resolver([liar.address().port, 1, port]);
  expect(await lookUp(lookup, 'web.shop.example', 'A')).toMatchObject({ kind: 'found', values: ['192.0.2.7'] });
  expect(lies).toBe(1);
  liar.close();
});

/** A name server that says one thing to every question. */
async function scripted(
  say: (question: { name: string; type: string }) => Partial<packet.Packet>,
): Promise<{ port: number; close: () => void }> {
  const socket = createSocket('udp4');
  socket.on('message', (bytes, from) => {
    const query = packet.decode(bytes);
    const [question] = query.questions ?? [];
    if (!question) return;
    const reply = packet.encode({ type: 'response', id: query.id ?? 0, questions: [question], ...say(question as never) });
    socket.send(reply, from.port, from.address);
  });
  socket.bind(0, '127.0.0.1');
  await once(socket, 'listening');
  return { port: socket.address().port, close: () => socket.close() };
}

const cname = (name: string, data: string): packet.Answer => ({ type: 'CNAME', name, ttl: 60, data });
const [AA, RA, NXDOMAIN] = [packet.AUTHORITATIVE_ANSWER, packet.RECURSION_AVAILABLE, 3];
const ns = (name: string): packet.Answer => ({ type: 'NS', name, ttl: 60, data: 'ns.far.example' });

it.each<[string, Partial<packet.Packet>, string, string | null]>([
  ['an empty reply of a resolver', { flags: RA }, 'no-such-record', 'no-such-record'],
  ['an empty reply without authority', { flags: 0 }, 'failed', 'shop.example'],
  ['a reply that there is no such name, without authority', { flags: NXDOMAIN }, 'failed', 'shop.example'],
  ['a reply that leads upwards', { flags: 0, authorities: [ns('example')] }, 'failed', 'shop.example'],
  ['a reply that leads to the same zone', { flags: 0, authorities: [ns('shop.example')] }, 'failed', 'shop.example'],
  [
    'a reply out of a cache',
    { flags: 0, answers: [{ type: 'A', name: 'www.shop.example', ttl: 9, data: '192.0.2.1' }] },
    'found',
    'shop.example',
  ],
  ['an alias of itself', { flags: AA | RA, answers: [cname('www.shop.example', 'www.shop.example')] }, 'failed', 'endless'],
  [
    'a circle of two',
    { flags: AA | RA, answers: [cname('www.shop.example', 'a.shop.example'), cname('a.shop.example', 'www.shop.example')] },
    'failed',
    'endless',
  ],
  [
    'a circle of three',
    {
      flags: AA | RA,
      answers: [
        cname('www.shop.example', 'a.shop.example'),
        cname('a.shop.example', 'b.shop.example'),
        cname('b.shop.example', 'www.shop.example'),
      ],
    },
    'failed',
    'endless',
  ],
  [
    'a circle behind the name',
    {
      flags: AA | RA,
      answers: [
        cname('www.shop.example', 'a.shop.example'),
        cname('a.shop.example', 'b.shop.example'),
        cname('b.shop.example', 'a.shop.example'),
      ],
    },
    'failed',
    'endless',
  ],
  [
    'an alias to a name that does not exist',
    { flags: AA | RA | NXDOMAIN, answers: [cname('www.shop.example', 'gone.shop.example')] },
    'gone.shop.example',
    null,
  ],
])('%s is read for what it is, and the next server is asked where it says nothing', async (_what, reply, outcome, kind) => {
  const odd = await scripted(() => reply);
  const answer = await lookUp(resolver([odd.port]).lookup, 'www.shop.example', 'A');
  if (outcome === 'failed') expect(answer).toMatchObject({ kind: 'failed' });
  else if (outcome === 'found') expect(answer).toMatchObject({ kind: 'found' });
  else if (outcome.includes('.')) expect(answer).toMatchObject({ kind: 'none', reason: 'no-such-name', alias: outcome });
  else expect(answer).toMatchObject({ kind: 'none', reason: outcome });
  // As one of the zone's own servers, it must know the zone; the next one does.
  const asking = { tries: 1, timeoutMs: 200, zone: 'shop.example', gate: null, health: new ServerHealth(() => now, 200) };
  const alone = await askInTurn([{ address: '127.0.0.1', port: odd.port }], 'www.shop.example', 'A', asking);
  const both = await askInTurn(
    [odd.port, port].map((one) => ({ address: '127.0.0.1', port: one })),
    'www.shop.example',
    'A',
    asking,
  );
  if (kind === 'shop.example') {
    expect(alone).toMatchObject({ kind: 'failed', reason: '127.0.0.1 answered without knowing the zone' });
    expect(both).toMatchObject({ kind: 'reply', message: { flag_aa: true } });
  }
  odd.close();
});

/** A port that takes questions and never answers; tells how many came. */
async function deadPort(): Promise<{ port: number; count: () => number; close: () => void }> {
  const socket = createSocket('udp4');
  let count = 0;
  socket.on('message', () => {
    count += 1;
  });
  socket.bind(0, '127.0.0.1');
  await once(socket, 'listening');
  return { port: socket.address().port, count: () => count, close: () => socket.close() };
}

it.each(['255.255.255.255', 'fe80::1', '::', '2001:db8::53', '0.0.0.0', 'not an address'])(
  'a name server at %s is a failure of the question and of nothing else',
  async (address) => {
    const health = new ServerHealth(() => now, 200);
    const { lookup } = new Resolver({ servers: [{ address, port: 53 }], timeoutMs: 200, tries: 1, now: () => now, health });
    expect(await lookUp(lookup, 'shop.example', 'A')).toMatchObject({ kind: 'failed' });
    const asked = await askTcp({ address, port: 53 }, { type: 'query', id: 1, questions: [{ type: 'A', name: 'shop.example' }] }, 200);
    expect(asked.kind).toBe('failed');
  },
);

it('a dead resolver is asked last after two silences, once in twenty seconds, and first again when it is back', async () => {
  const dead = await deadPort();
  let steady = 0;
  const health = new ServerHealth(() => steady, 4000);
  const servers = [dead.port, port].map((one) => ({ address: '127.0.0.1', port: one }));
  const { lookup } = new Resolver({ servers, timeoutMs: 4000, tries: 2, now: () => now, health });
  // Each question is answered by the second resolver, which is asked long before the first one's time is over.
  health.silent(servers[0] as Server);
  expect(await lookUp(lookup, 'web.shop.example', 'A')).toMatchObject({ kind: 'found', by: '127.0.0.1' });
  health.silent(servers[0] as Server);
  expect(health.states(servers).map((one) => one.state)).toEqual(['silent', 'answers']);
  const before = dead.count();
  const ask = async (from: number, to: number): Promise<void> => {
    for (let number = from; number < to; number += 1) {
      // A machine that is busy for a moment is no reason to ask the other one.
      health.answered(servers[1] as Server, 900);
      await lookUp(lookup, `none${number}.shop.example`, 'A');
    }
  };
  await ask(0, 20);
  expect(dead.count()).toBe(before);
  steady += 21_000;
  await ask(20, 40);
  await expect.poll(dead.count).toBe(before + 1);
  health.answered(servers[0] as Server, 3);
  expect(health.ordered(servers)[0]?.port).toBe(dead.port);
  dead.close();
});

it('nobody is asked about names below invalid: there are none (RFC 6761 §6.4)', async () => {
  // A server that would not answer.
  const { lookup } = resolver([1]);
  for (const name of ['invalid', 'rehearsal.invalid', 'a.b.invalid'])
    expect(await lookUp(lookup, name, 'MX')).toEqual({ kind: 'none', reason: 'no-such-name' });
  expect((await lookUp(lookup, 'notinvalid', 'MX')).kind).toBe('failed');
});
