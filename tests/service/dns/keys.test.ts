import { generateKeyPairSync } from 'node:crypto';
import nodemailer from 'nodemailer';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { CheckReport, Key } from '../../../src/api/dns-schemas.ts';
import type { JournalEntry } from '../../../src/api/journey-schemas.ts';
import { verifyDkim } from '../../../src/core/dkim/verify.ts';
import type { Lookup } from '../../../src/core/records/answers.ts';
import { runDueChecks } from '../../../src/service/dns/check-runs.ts';
import { RETIRE_AFTER } from '../../../src/service/dns/keys.ts';
import { aheadOf } from '../../support/clock.ts';
import { type House, PASSWORD } from '../../support/house.ts';
import { openTown, type Town } from '../../support/town.ts';

let town: Town;
let house: House;
beforeAll(async () => {
  town = await openTown();
  house = town.house;
  await house.provide('shop.example', ['ana']);
});
afterAll(() => town.close());

const path = '/domains/shop.example/keys';
const list = async (): Promise<Key[]> => house.api.list<Key>(path);
const states = async () => Object.fromEntries((await list()).map((key) => [key.selector, key.state]));
const prepare = async (body: object): Promise<Key> => (await house.api.call<Key>('POST', path, body)).body;
const act = async (selector: string, verb: 'activate' | 'retire', force = false) => {
  const { status, body } = await house.api.call<{ detail?: string; state?: string }>('POST', `${path}/${selector}/${verb}`, { force });
  return { status, detail: body.detail ?? '', state: body.state };
};
const publish = (key: Key): void => house.dns.typeIn(key.record);
const checkCodes = async () =>
  (await house.api.call<CheckReport>('POST', '/domains/shop.example/check')).body.findings
    .filter((one) => one.subject === 'dkim')
    .map((one) => one.code);

/** Sends a message outside. */
const submit = () =>
  nodemailer
    .createTransport({
      host: '127.0.0.1',
      port: house.ports.submissions,
      secure: true,
      tls: { rejectUnauthorized: false },
      auth: { user: 'ana@shop.example', pass: PASSWORD },
    })
    .sendMail({ from: 'ana@shop.example', to: 'leo@open.example', subject: 'signed', text: 'x' });

/** What the signatures of the next message that arrives outside are worth by the published keys. */
async function signaturesOf(act: () => Promise<unknown>): Promise<string[]> {
  const filed = town.open.nextFiled();
  await act();
  const { content } = await filed;
  house.service.context.dns.forget();
  const outcomes = await verifyDkim(content, house.service.context.lookup, Date.now());
  return outcomes.map(({ selector, algorithm, result }) => `${selector} ${algorithm} ${result}`);
}
const outlet = (isOn: boolean) => house.api.call('PATCH', '/outlets/direct', { isOn });

describe('a key through its life', () => {
  let first: Key;
  let second: Key;

  it('the first signs from the beginning', async () => {
    [first] = (await list()) as [Key];
    expect(first).toMatchObject({ state: 'active', type: 'rsa', next: '' });
    publish(first);
    expect(await signaturesOf(submit)).toEqual([`${first.selector} rsa-sha256 pass`]);
  });

  it('a prepared one does not sign, and is only activated when its record is seen to be right', async () => {
    second = await prepare({});
    expect(second).toMatchObject({ state: 'prepared', selector: `${first.selector}b` });
    expect(await signaturesOf(submit)).toEqual([`${first.selector} rsa-sha256 pass`]);
    expect(await act(second.selector, 'activate')).toMatchObject({ status: 409, detail: expect.stringContaining('is not published yet') });
    house.dns.typeIn({ ...second.record, value: first.record.value });
    expect(await act(second.selector, 'activate')).toMatchObject({
      status: 409,
      detail: expect.stringContaining('The published key is not the one'),
    });
    expect(await checkCodes()).toEqual(['dkim-prepared-wrong']);
    publish(second);
    await outlet(false);
    await submit();
    expect(await act(second.selector, 'activate')).toMatchObject({ status: 200, state: 'active' });
    expect(await states()).toEqual({ [first.selector]: 'retiring', [second.selector]: 'active' });
    // What waited leaves under the key that signs by then.
    expect(await signaturesOf(() => outlet(true))).toEqual([`${second.selector} rsa-sha256 pass`]);
    expect(await signaturesOf(submit)).toEqual([`${second.selector} rsa-sha256 pass`]);
    expect(await act(second.selector, 'activate')).toMatchObject({ status: 409 });
  });

  it('an Ed25519 key signs beside it', async () => {
    const edwards = await prepare({ type: 'ed25519', selector: 'Edwards' });
    publish(edwards);
    await act('edwards', 'activate');
    expect(await signaturesOf(submit)).toEqual([`${second.selector} rsa-sha256 pass`, 'edwards ed25519-sha256 pass']);
    expect(await checkCodes()).toEqual(['dkim-good']);
  });

  it('the old one must stay published, retires after the queue’s lifetime, and is then to be withdrawn', async () => {
    house.dns.withdraw(first.record.name);
    expect(await checkCodes()).toEqual(['dkim-retiring-gone']);
    publish(first);
    expect(await act(first.selector, 'retire')).toMatchObject({ status: 409, detail: expect.stringContaining('may still be in transit') });
    expect((await house.api.call('DELETE', `${path}/${first.selector}`)).status).toBe(409);
    const { context } = house.service;
    const real = context.clock;
    context.clock = aheadOf(real, () => RETIRE_AFTER - 60_000);
    await runDueChecks(context);
    expect((await states())[first.selector]).toBe('retiring');
    context.clock = aheadOf(real, () => RETIRE_AFTER + 60_000);
    await runDueChecks(context);
    context.clock = real;
    expect((await states())[first.selector]).toBe('retired');
    expect(await checkCodes()).toEqual(['dkim-retired-published']);
    house.dns.withdraw(first.record.name);
    expect(await checkCodes()).toEqual(['dkim-good']);
    expect((await house.api.call('DELETE', `${path}/${first.selector}`)).status).toBe(200);
    expect(Object.keys(await states())).not.toContain(first.selector);
  });

  it('force goes without looking, and the journal says so', async () => {
    const third = await prepare({});
    expect((await act(third.selector, 'activate', true)).state).toBe('active');
    expect((await act(second.selector, 'retire', true)).state).toBe('retired');
    const { body } = await house.api.call<{ rows: JournalEntry[] }>('GET', '/journal?domain=shop.example');
    const texts = body.rows.map((row) => row.text);
    expect(texts).toContain(`DKIM key ${third.selector} signs from now on; activated by force, without a DNS check`);
    expect(texts).toContain(`DKIM key ${second.selector} is retired, by force before its time`);
  });

  it('the last one that signs can’t be retired', async () => {
    await house.provide('lone.example');
    const [only] = await house.api.list<Key>('/domains/lone.example/keys');
    const { body } = await house.api.call('POST', `/domains/lone.example/keys/${only?.selector}/retire`, { force: true });
    expect(body.detail).toContain('is the only one that signs');
  });
});

describe('taking in a key of one’s own', () => {
  const pem = (type: 'pkcs1' | 'pkcs8') =>
    generateKeyPairSync('rsa', { modulusLength: 2048 }).privateKey.export({ format: 'pem', type }).toString();

  it.each(['pkcs1', 'pkcs8'] as const)('as %s, with its selector; the private half never comes out again', async (form) => {
    const text = pem(form);
    const key = await prepare({ pem: text, selector: form });
    expect(key).toMatchObject({ selector: form, type: 'rsa', state: 'prepared' });
    const shown = JSON.stringify(await list()) + house.log.join('');
    expect(shown).not.toContain('PRIVATE KEY');
    expect(shown).not.toContain(text.trim().split('\n').at(-3));
  });

  it.each([
    [{ pem: 'not a key', selector: 'x1' }, 'not a private RSA or Ed25519 key'],
    [
      { pem: generateKeyPairSync('ec', { namedCurve: 'P-256' }).privateKey.export({ format: 'pem', type: 'pkcs8' }), selector: 'x2' },
      'not a private RSA or Ed25519 key',
    ],
    [{ pem: 'x' }, 'needs its selector'],
    [{ selector: 'a b' }, 'is not a selector'],
    [{ selector: '-a' }, 'is not a selector'],
    [{ selector: 'edwards' }, 'already has a key with the selector edwards'],
    [{ type: 'dsa' }, 'type'],
  ])('%j is refused', async (body, detail) => {
    const { status, body: problem } = await house.api.call('POST', path, body);
    expect([status >= 400, problem.detail]).toEqual([true, expect.stringContaining(detail)]);
  });
});

it('a key that only some of the zone’s name servers have is not activated, and a policy that only some have is not taken for seen', async () => {
  const { context } = house.service;
  house.dns.addZone('shop.example');
  await prepare({ selector: 'half' });
  for (const key of await list()) if (key.state !== 'retired') publish(key);
  house.resolver.forget();
  const real = context.dns.openViews;
  const lagging: Lookup = async (name, type) => {
    if (name.startsWith('half.') || name.startsWith('_dmarc.'))
      return { kind: 'none', reason: 'no-such-record', ttl: 60, by: '203.0.113.99' } as never;
    return { ...(await real().source(name, type)), by: '203.0.113.99' } as never;
  };
  context.dns.openViews = () => ({ ...real(), further: [lagging] });
  try {
    const before = (await house.api.call<{ dmarcStage: string }>('GET', '/domains/shop.example')).body.dmarcStage;
    expect(await checkCodes()).toContain('dkim-disagree');
    const refused = await act('half', 'activate');
    expect([refused.status, refused.detail]).toEqual([409, expect.stringContaining('disagree')]);
    expect((await house.api.call<{ dmarcStage: string }>('GET', '/domains/shop.example')).body.dmarcStage).toBe(before);
  } finally {
    context.dns.openViews = real;
  }
  expect((await act('half', 'retire', true)).status).toBe(200);
});
