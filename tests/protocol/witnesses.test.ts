import { randomBytes } from 'node:crypto';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { AddedWitness, Rehearsal, RehearsalHead, Witness } from '../../src/api/rehearsal-schemas.ts';
import { reverseName } from '../../src/core/records/reverse-name.ts';
import { privateKeyOf } from '../../src/core/witness/key.ts';
import { signCall } from '../../src/core/witness/signed-call.ts';
import { freePort } from '../../src/standins/free-port.ts';
import { HOST, type House, openHouse } from '../support/house.ts';

const PATH = '/api/v1/witness/rehearsals';
const WITNESS = { name: 'reserve.host.example', address: '198.51.100.25' };
let house: House;
/** Another host, with a database of its own and the same DNS; it is found at the same ports. */
let other: House;

beforeAll(async () => {
  const smtp = await freePort();
  const imaps = await freePort();
  const listeners = `[[listener]]\nservice = "smtp"\naddress = "127.0.0.1"\nport = ${smtp}\n[[listener]]\nservice = "imaps"\naddress = "127.0.0.1"\nport = ${imaps}\n`;
  const dials = HOST.addresses
    .map((one) => (one.includes(':') ? `[${one}]` : one))
    .map(
      (one) => `[[dial]]\nto = "${one}:25"\nthrough = "127.0.0.1:${smtp}"\n[[dial]]\nto = "${one}:993"\nthrough = "127.0.0.1:${imaps}"\n`,
    )
    .join('');
  house = await openHouse({ more: listeners + dials });
  await house.provide('shop.example', ['ana']);
  const { dns } = house;
  for (const address of HOST.addresses) {
    dns.publish({ name: HOST.name, type: address.includes(':') ? 'AAAA' : 'A', value: address });
    dns.publish({ name: reverseName(address), type: 'PTR', value: HOST.name });
  }
  dns.publish({ name: 'shop.example', type: 'MX', value: `10 ${HOST.name}` });
  dns.publish({ name: 'shop.example', type: 'MX', value: '20 mx.far.example' });
  dns.publish({ name: 'mx.far.example', type: 'A', value: '198.51.100.77' });
  dns.publish({ name: WITNESS.name, type: 'A', value: WITNESS.address });
  await house.api.call('PATCH', '/domains/shop.example', { mailName: 'host' });
  other = await openHouse({ more: dials, hostName: WITNESS.name, addresses: [WITNESS.address], resolverPort: house.dnsPort });
});
afterAll(async () => {
  await house.close();
  await other.close();
});

const add = (at: House, values: object) => at.api.call<AddedWitness>('POST', '/witnesses', values);
const rehearse = (kind: string, values: object) =>
  house.api.call<Rehearsal>('POST', `/rehearsals/${kind}`, { ...values, witness: WITNESS.name });

describe('two hosts', () => {
  it('are introduced by a one-time code, once, and both know with whom they speak', async () => {
    const given = (await add(other, { name: HOST.name })).body;
    expect(given).toMatchObject({ isIntroduced: false, givenCode: expect.stringMatching(/^[a-z0-9]{4}(-[a-z0-9]{4}){3}$/) });
    const code = given.givenCode ?? '';
    const wrong = await house.api.call('POST', '/witnesses', { name: WITNESS.name, url: other.api.url, code: 'abcd-abcd-abcd-abcd' });
    expect([wrong.status, wrong.body.field]).toEqual([422, 'code']);
    // Under another name it is not the one that has the code.
    const elsewhere = await house.api.call('POST', '/witnesses', { name: 'x.example', url: other.api.url, code });
    expect([elsewhere.status, elsewhere.body.code]).toEqual([502, 'witness']);
    const again = (await add(other, { name: HOST.name })).body.givenCode ?? '';
    const met = await add(house, { name: WITNESS.name, url: `${other.api.url}/`, code: again, ownUrl: house.api.url });
    expect(met.body).toMatchObject({ isIntroduced: true, url: other.api.url, givenCode: null, askedAt: null });
    expect((await add(house, { name: WITNESS.name, url: other.api.url, code: again })).status).toBe(422);
    expect((await other.api.list<Witness>('/witnesses'))[0]).toMatchObject({ name: HOST.name, url: house.api.url, isIntroduced: true });
  });

  it('rehearse for each other: what comes back is kept as seen from there', async () => {
    const relay = (await rehearse('relay', {})).body;
    expect(relay).toMatchObject({ isGood: true, witness: WITNESS.name, beforeAt: null });
    expect(relay.ways.map((one) => one.name)).toEqual(HOST.addresses.map((one) => `${HOST.name} [${one}]`));
    const signIn = (await rehearse('signin', { address: 'ana@shop.example' })).body;
    const [imap] = signIn.ways;
    expect(imap?.steps.map((step) => [step.key, step.state])).toEqual([
      ['name', 'done'],
      ['port', 'done'],
      ['tls', 'done'],
      // Signed by the house itself: nobody elsewhere trusts it.
      ['certificate', 'failed'],
      ['sign-in', 'done'],
      ['folders', 'done'],
    ]);
    expect(JSON.stringify(signIn)).not.toMatch(/pass-[a-f0-9]{40}/);
    const receive = (await rehearse('receive', { address: 'ana@shop.example' })).body;
    expect(receive.ways.map((one) => [one.name, one.steps.at(-1)?.key])).toEqual([
      ['MX records', 'mx'],
      [HOST.name, 'relay'],
      // It is none of the addresses of who asks: nothing connects there.
      ['mx.far.example', 'elsewhere'],
    ]);
    const here = (await house.api.call<Rehearsal>('POST', '/rehearsals/relay', {})).body;
    expect(here).toMatchObject({ witness: null, beforeAt: null });
    expect((await rehearse('relay', {})).body.beforeAt).toBe(relay.at);
    expect((await house.api.list<RehearsalHead>(`/rehearsals?search=${WITNESS.name}`)).length).toBe(4);
    // The witness keeps no copy; its journal says for whom it was done.
    expect(await other.api.list('/rehearsals')).toEqual([]);
    const told = JSON.stringify((await other.api.call('GET', '/journal')).body);
    expect(told).toContain(`tested for ${HOST.name}: receive ana@shop.example`);
    // And the other way round.
    const back = await other.api.call<Rehearsal>('POST', '/rehearsals/relay', { witness: HOST.name });
    expect(back.status).toBe(200);
  });

  it('a port that is not of mail is not connected to, wherever DNS leads', async () => {
    const { witnesses } = house.service.context;
    const setting = { service: 'imaps', use: 'reading', protocol: 'IMAP', server: HOST.name, port: 22, security: 'TLS' } as const;
    const host = { name: HOST.name, addresses: ['203.0.113.1'], fingerprints: [], renewed: [] };
    const [way] = await witnesses.ask(WITNESS.name, {
      kind: 'signin',
      host,
      user: 'a@b.example',
      ways: [{ setting, pass: `pass-${'a'.repeat(40)}` }],
      letter: null,
    });
    expect(way?.steps[1]).toMatchObject({ key: 'port', state: 'failed', seen: expect.stringContaining('standard mail ports') });
    const far = await witnesses.ask(WITNESS.name, {
      kind: 'signin',
      host,
      user: 'a@b.example',
      ways: [{ setting: { ...setting, server: 'mx.far.example', port: 993 }, pass: `pass-${'a'.repeat(40)}` }],
      letter: null,
    });
    expect(far[0]?.steps[1]).toMatchObject({
      state: 'failed',
      seen: expect.stringContaining('not an address from which the other host has called'),
    });
    // For somebody else nothing is done, and what would end a line is no address.
    await expect(
      witnesses.ask(WITNESS.name, {
        kind: 'relay',
        host: { ...host, name: 'x.example' },
        relay: { domain: 'x.example', takesAll: false, greeting: 'x' },
      }),
    ).rejects.toThrow(/can’t be read/);
    await expect(
      witnesses.ask(WITNESS.name, {
        kind: 'receive',
        host,
        address: 'a@b.example>\r\nQUIT',
        relay: { domain: 'b.example', takesAll: false, greeting: 'x' },
        letter: null,
      }),
    ).rejects.toThrow(/can’t be read/);
  });
});

describe('a call that is not what it seems', () => {
  const order = JSON.stringify({
    kind: 'relay',
    host: { name: HOST.name, addresses: [], fingerprints: [], renewed: [] },
    relay: { domain: 'shop.example', takesAll: false, greeting: 'x.example' },
  });
  const send = async (headers: Record<string, string>, body = order): Promise<string> => {
    const response = await fetch(other.api.url + PATH, {
      method: 'POST',
      headers: { 'content-type': 'application/json', ...headers },
      body,
    });
    return `${response.status} ${((await response.json()) as { detail?: string }).detail ?? ''}`;
  };
  const own = () => privateKeyOf(house.service.context.keyFile.derived('calls between witnesses'));
  const signed = (values: object = {}, key = own()) =>
    signCall(
      {
        path: PATH,
        body: order,
        from: HOST.name,
        to: WITNESS.name,
        created: Math.floor(Date.now() / 1000),
        nonce: randomBytes(18).toString('base64url'),
        ...values,
      },
      key,
    );

  it('is refused: unsigned, by a stranger, for another, old, twice, changed', async () => {
    const no = /^401 No witness of this host has signed that/;
    expect(await send({})).toMatch(no);
    expect(await send(signed({}, privateKeyOf(Buffer.alloc(32, 1))))).toMatch(no);
    expect(await send(signed({ from: 'x.example' }))).toMatch(no);
    expect(await send(signed({ to: 'x.example' }))).toMatch(no);
    expect(await send(signed(), order.replace('shop', 'show'))).toMatch(no);
    expect(await send(signed({ created: Math.floor(Date.now() / 1000) - 400 }))).toMatch(/^401 The clocks/);
    const headers = signed();
    expect(await send(headers)).toMatch(/^200/);
    expect(await send(headers)).toMatch(/^401 That call was made before/);
  });

  it('what answers for a witness and is another is found out', async () => {
    const impostor = createServer((_request, response) => response.end('[]')).listen(0, '127.0.0.1');
    await new Promise((resolve) => impostor.once('listening', resolve));
    const { db } = house.service.context;
    const url = `http://127.0.0.1:${(impostor.address() as AddressInfo).port}`;
    await db.commit(() => db.run('UPDATE witness SET url = ?', url));
    const answer = await house.api.call('POST', '/rehearsals/relay', { witness: WITNESS.name });
    expect([answer.status, answer.body.detail]).toEqual([502, `What answers at ${url} is not ${WITNESS.name}.`]);
    impostor.close();
    await db.commit(() => db.run('UPDATE witness SET url = ?', 'http://192.0.2.1:8443'));
    const clear = await house.api.call('POST', '/rehearsals/signin', { address: 'ana@shop.example', witness: WITNESS.name });
    expect(clear.body.detail).toContain('the passes would cross the net in clear');
    await db.commit(() => db.run('UPDATE witness SET url = ?', 'http://127.0.0.1:1'));
    expect((await house.api.call('POST', '/rehearsals/relay', { witness: WITNESS.name })).body.detail).toContain(
      'does not answer: ECONNREFUSED',
    );
    expect((await house.api.call('POST', '/rehearsals/relay', { witness: 'nobody.example' })).status).toBe(404);
  });

  it('who is no witness any more gets nothing', async () => {
    expect((await other.api.call('DELETE', `/witnesses/${HOST.name}`)).status).toBe(200);
    expect(await send(signed())).toMatch(/^401/);
    for (const values of [
      { name: '' },
      { name: HOST.name },
      { name: 'a.example', code: 'x' },
      { name: 'a.example', url: 'ftp://x', code: 'x' },
      { name: 'a.example', ownUrl: 'x' },
    ])
      expect((await house.api.call('POST', '/witnesses', values)).status).toBe(422);
  });
});
