import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Key, Publication, PublicationOfAll, Zone } from '../../../src/api/dns-schemas.ts';
import { lookUp } from '../../../src/core/records/answers.ts';
import { Resolver } from '../../../src/dns/resolver.ts';
import { type House, openHouse } from '../../support/house.ts';
import { type Named, openNamed, TSIG } from '../../support/named.ts';

const DOMAIN = 'shop.example';
const OWN = ['@ IN TXT "site-check=12345"', '@ IN A 203.0.113.80', 'www IN A 203.0.113.80', '@ IN MX 5 mx.old', 'mx.old IN A 203.0.113.7'];
let house: House;
let named: Named;
let asked: Resolver;

beforeAll(async () => {
  named = await openNamed(DOMAIN, [...OWN, '@ IN TXT "v=spf1 ip4:203.0.113.80 ~all"'].join('\n'));
  house = await openHouse();
  await house.provide(DOMAIN);
  await house.provide('elsewhere.example');
  asked = new Resolver({ servers: [{ address: '127.0.0.1', port: named.port }], timeoutMs: 1000, tries: 1, now: () => 0 });
});
afterAll(async () => {
  await house?.close();
  await named?.close();
});

/** What the name server says now. */
async function published(name: string, type: 'TXT' | 'MX' | 'SRV' | 'A'): Promise<string[]> {
  asked.forget();
  const answer = await lookUp(asked.lookup, name, type);
  if (answer.kind === 'failed') throw new Error(answer.reason);
  return answer.kind === 'found'
    ? answer.values.map((value) => (typeof value === 'string' ? value : `${value.preference} ${value.exchange}`)).sort()
    : [];
}
const setZone = (changes: Partial<Record<keyof Zone | 'secret', unknown>> = {}) =>
  house.api.call('PUT', '/zones', {
    name: DOMAIN,
    server: '127.0.0.1',
    port: named.port,
    keyName: TSIG.name,
    secret: TSIG.secret,
    ...changes,
  });
const publish = <T = Publication>(dryRun: boolean) => house.api.call<T>('POST', `/domains/${DOMAIN}/records/publish`, { dryRun });

describe('publishing into a zone of a real name server', () => {
  it('says how to set the zone first', async () => {
    const { status, body } = await publish<{ detail: string }>(false);
    expect([status, body.detail]).toEqual([409, `The zone of ${DOMAIN} is not updated from here: no server is set for it.`]);
  });

  it.each([
    ['a wrong secret', { secret: Buffer.from('another secret altogether').toString('base64') }, 'the signature is wrong'],
    ['an unknown key', { keyName: 'nobody' }, 'the server does not know the key'],
    ['a key that may not update', { keyName: 'reader' }, 'it refuses updates from here, or with this key'],
    ['another algorithm', { algorithm: 'hmac-sha512' }, 'the server does not know the key, or not with this algorithm'],
  ])('with %s nothing is changed, and the reason is said', async (_what, changes, reason) => {
    expect((await setZone(changes)).status).toBe(200);
    const { status, body } = await publish<{ detail: string; code: string }>(false);
    expect([status, body.code]).toEqual([502, 'name-server']);
    expect(body.detail).toContain(reason);
    expect(await published(DOMAIN, 'MX')).toEqual(['5 mx.old.shop.example']);
  });

  it('shows the difference, makes it, asks again, and leaves the customer’s own records alone', async () => {
    expect((await setZone({ algorithm: TSIG.algorithm })).status).toBe(200);
    const rehearsal = (await publish(true)).body;
    expect(rehearsal).toMatchObject({ published: false, zone: DOMAIN });
    expect(rehearsal.changes).toContainEqual({ action: 'remove', type: 'MX', name: DOMAIN, value: '5 mx.old.shop.example' });
    expect(rehearsal.changes.filter((one) => one.type === 'TXT' && one.name === DOMAIN)).toEqual([
      { action: 'remove', type: 'TXT', name: DOMAIN, value: 'v=spf1 ip4:203.0.113.80 ~all' },
      { action: 'add', type: 'TXT', name: DOMAIN, value: 'v=spf1 a:mail.host.example ip4:203.0.113.80 ~all' },
    ]);
    expect(await published(DOMAIN, 'MX')).toEqual(['5 mx.old.shop.example']);

    const done = (await publish(false)).body;
    expect(done).toMatchObject({ published: true, changes: rehearsal.changes });
    expect(await published(DOMAIN, 'MX')).toEqual(['10 mail.host.example']);
    expect(await published(DOMAIN, 'TXT')).toEqual(['site-check=12345', 'v=spf1 a:mail.host.example ip4:203.0.113.80 ~all']);
    expect(await published(`_submissions._tcp.${DOMAIN}`, 'SRV')).toEqual(['0 1 465 mail.host.example']);
    expect(await published(`www.${DOMAIN}`, 'A')).toEqual(['203.0.113.80']);
    const [key] = await house.api.list<Key>(`/domains/${DOMAIN}/keys`);
    // More than 255 octets, in several strings, read back as one.
    expect(await published(key?.record.name ?? '', 'TXT')).toEqual([key?.record.value]);

    expect((await publish(false)).body).toMatchObject({ published: false, changes: [] });
  });

  it('brings a new key into the zone with all others, and every set zone at once', async () => {
    const { body: key } = await house.api.call<Key>('POST', `/domains/${DOMAIN}/keys`, { type: 'ed25519' });
    const { body } = await house.api.call<PublicationOfAll>('POST', '/records/publish', {});
    expect(body.publications).toMatchObject([{ domain: DOMAIN, published: true, changes: [{ action: 'add', name: key.record.name }] }]);
    expect(body.leftOut).toEqual(['elsewhere.example']);
    expect(await published(key.record.name, 'TXT')).toEqual([key.record.value]);
  });

  it('a record goes however its text is parted, the same text twice becomes one, and of updates at once each sees what the others did', async () => {
    const own = 'odd.example';
    const other = await openNamed(
      own,
      [
        '@ IN TXT "site-check=12345"',
        '@ IN TXT "v=spf1 ip4:203.0.113.81 " "~all"',
        '@ IN TXT "v=sp" "f1 ip4:203.0.113.81 ~all"',
        '_dmarc IN TXT "v=DMARC1; p=rej" "ect"',
      ].join('\n'),
    );
    try {
      await house.provide(own);
      const zone = { name: own, server: '127.0.0.1', port: other.port, keyName: TSIG.name, secret: TSIG.secret };
      expect((await house.api.call('PUT', '/zones', zone)).status).toBe(200);
      const all = await Promise.all(
        Array.from({ length: 6 }, () => house.api.call<Publication>('POST', `/domains/${own}/records/publish`, { dryRun: false })),
      );
      expect(all.map((one) => one.status)).toEqual(all.map(() => 200));
      expect(all.filter((one) => one.body.published)).toHaveLength(1);
      const at = new Resolver({ servers: [{ address: '127.0.0.1', port: other.port }], timeoutMs: 1000, tries: 1, now: () => 0 });
      const texts = async (name: string): Promise<string[]> => {
        at.forget();
        const answer = await lookUp(at.lookup, name, 'TXT');
        return answer.kind === 'found' ? answer.values.sort() : [];
      };
      expect(await texts(own)).toEqual(['site-check=12345', 'v=spf1 a:mail.host.example ip4:203.0.113.81 ~all']);
      expect(await texts(`_dmarc.${own}`)).toEqual([expect.stringContaining('p=reject')]);
      // What was thought to stand there is a condition: of those who thought the same one is right.
      const name = `race.${own}`;
      const racing = (value: string) =>
        house.service.context.dns.update(
          zone,
          own,
          TSIG,
          [{ action: 'add', type: 'TXT', name, value }],
          300,
          new Map([[`TXT ${name}`, []]]),
        );
      const kinds = (await Promise.all(['a', 'b', 'c', 'd'].map(racing))).map((one) => one.kind).sort();
      expect(kinds).toEqual(['changed', 'changed', 'changed', 'done']);
      expect(await texts(name)).toHaveLength(1);
    } finally {
      await other.close();
    }
  });

  it('never gives the secret out', async () => {
    const text = JSON.stringify((await house.api.call('GET', '/zones')).body) + house.log.join('');
    expect(text).toContain(TSIG.name);
    expect(text).not.toContain(TSIG.secret);
  });

  it('a silent server is told from a refusing one', async () => {
    await setZone({ port: 1 });
    const { status, body } = await publish<{ detail: string }>(false);
    expect(status).toBe(502);
    expect(body.detail).toContain('gives no answer');
  });
});
