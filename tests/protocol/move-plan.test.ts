import { createHash } from 'node:crypto';
import { afterAll, beforeAll, expect, it } from 'vitest';
import type { MovePlanDetails, Stepped } from '../../src/api/move-schemas.ts';
import type { TransferDetails } from '../../src/api/transfer-schemas.ts';
import { MOVE_STEPS, type MoveState, type MoveStep } from '../../src/core/vocabulary.ts';
import { MoveWatch } from '../../src/service/moves/move-watch.ts';
import { freePort } from '../../src/standins/free-port.ts';
import { lookUpMailbox } from '../../src/store/mailboxes.ts';
import { HOST, type House, openHouse, PASSWORD } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';
import { Talk } from '../support/talk.ts';
import { idOf, send } from '../support/town.ts';

const DOMAIN = 'shop.example';
const OLD_MX = 'mx.old.example';
const PEOPLE = ['ana', 'leo'];
let old: House;
let house: House;
let fingerprint: string;

beforeAll(async () => {
  old = await openHouse({ hostName: OLD_MX, addresses: ['198.51.100.50'] });
  await old.provide(DOMAIN, PEOPLE);
  house = await openHouse({
    dial: `[[dial]]\nto = "198.51.100.50:25"\nthrough = "127.0.0.1:${old.ports.smtp}"\n[[dial]]\nto = "198.51.100.51:993"\nthrough = "127.0.0.1:${await freePort()}"\n`,
  });
  await house.provide('near.example', ['eva']);
  for (const value of HOST.addresses) house.dns.publish({ name: HOST.name, type: value.includes(':') ? 'AAAA' : 'A', value });
  house.dns.publish({ name: OLD_MX, type: 'A', value: '198.51.100.50' });
  house.dns.publish({ name: DOMAIN, type: 'MX', value: `10 ${OLD_MX}`, ttl: 86_400 });
  const pem = old.service.context.certificates.for(OLD_MX)?.pem ?? '';
  const der = Buffer.from(/-----BEGIN CERTIFICATE-----([^-]+)-----END/.exec(pem)?.[1] ?? '', 'base64');
  fingerprint = createHash('sha256').update(der).digest('hex');
  for (const person of PEOPLE) await append(person, 'before');
});
afterAll(async () => {
  await house.close();
  await old.close();
});

async function append(person: string, subject: string): Promise<void> {
  const program = await openProgram(old.ports.imaps, `${person}@${DOMAIN}`);
  await program.append('INBOX', `Message-ID: <${subject}-${person}@old.example>\r\nSubject: ${subject}\r\n\r\n`, []);
  await program.logout();
}

const path = `/domains/${DOMAIN}/move-plan`;
const ask = (more: object = {}): object => ({
  ...{ host: '127.0.0.1', port: old.ports.imaps, fingerprint, quietHours: 1 },
  accounts: PEOPLE.map((person) => ({ user: `${person}@${DOMAIN}`, password: person === 'ana' ? PASSWORD : 'short', into: person })),
  ...more,
});
const plan = async (): Promise<MovePlanDetails> => (await house.api.call<MovePlanDetails>('GET', path)).body;
const stateOf = (found: MovePlanDetails, step: MoveStep): MoveState | undefined => found.steps.find((one) => one.step === step)?.state;
const next = (step: MoveStep | null = null) => house.api.call<Stepped>('POST', `${path}/next`, { step });
const check = async (): Promise<MovePlanDetails> => (await house.api.call<MovePlanDetails>('POST', `${path}/check`, {})).body;
async function carried(step: MoveStep): Promise<MovePlanDetails> {
  const begun = await next(step);
  expect(begun.status, JSON.stringify(begun.body)).toBe(200);
  await house.service.context.transfers.quiet();
  return plan();
}
const lead = (where: string, ttl: number): void => {
  house.dns.withdraw(DOMAIN, 'MX');
  house.dns.publish({ name: DOMAIN, type: 'MX', value: `10 ${where}`, ttl });
};
async function inbox(at: House, person: string, password = PASSWORD): Promise<string[]> {
  const program = await openProgram(at.ports.imaps, `${person}@${DOMAIN}`, { password });
  const lock = await program.getMailboxLock('INBOX');
  const subjects: string[] = [];
  for await (const one of program.fetch('1:*', { envelope: true })) subjects.push(one.envelope?.subject ?? '');
  lock.release();
  await program.logout();
  return subjects.sort();
}
/** Somebody of another domain here writes to Ana; resolves when that is at an end. */
async function write(subject: string): Promise<void> {
  const talk = await Talk.to(house.ports.submissions, { tls: true });
  await talk.say(null);
  await talk.say('EHLO client.example');
  await talk.say(`AUTH PLAIN ${Buffer.from(`\0eva@near.example\0${PASSWORD}`).toString('base64')}`);
  const { signals } = house.service.context;
  let done = (): void => {};
  const attempted = new Set<string>();
  signals.on('attempted', (id) => {
    attempted.add(id);
    done();
  });
  const id = idOf(await send(talk, 'eva@near.example', `ana@${DOMAIN}`, `From: eva@near.example\r\nSubject: ${subject}\r\n\r\nx\r\n`));
  talk.end();
  expect(id).not.toBe('');
  if (attempted.has(id) || (await plan()).oldServer === null) return;
  await new Promise<void>((resolve) => {
    done = () => attempted.has(id) && resolve();
  });
}

it.each([
  [{ accounts: [] }, 'accounts'],
  [{ accounts: [{ user: 'a', password: 'b', into: 'ana@other.example' }] }, 'accounts'],
  [{ accounts: Array(2).fill({ user: 'a', password: 'b', into: 'ana' }) }, 'accounts'],
  [{ accounts: [{ user: 'a', into: 'ana' }] }, 'accounts'],
  [{ mailServer: 'no host' }, 'primaryServer'],
  [{ quietHours: 0 }, 'quietHours'],
  [{ host: '' }, 'host'],
])('what can’t be is said before anything begins: %j', async (more, field) => {
  await house.provide(DOMAIN);
  const { status, body } = await house.api.call('POST', path, ask(more));
  expect({ status, field: body.field?.split('.')[0] }).toEqual({ status: 422, field });
  expect((await house.api.call('GET', path)).status).toBe(404);
});

it('a domain moves: prepared while it lives there, its mail in one place all the time, each step once those before it are behind', async () => {
  const begun = await house.api.call<MovePlanDetails>('POST', path, ask());
  expect(begun.body).toMatchObject({ oldServer: OLD_MX, step: 'sign-in', state: 'next' });
  expect((await house.api.call('POST', path, ask())).status).toBe(409);
  // Out of order, twice at once, and what is done in DNS.
  expect((await next('last-pass')).status).toBe(409);
  expect((await next('mailboxes')).status).toBe(409);

  const signedIn = await carried('sign-in');
  const passwordOf = (await house.api.call<TransferDetails>('GET', '/transfers/1')).body;
  expect(passwordOf.parts.map((one) => one.fault)).toContainEqual(expect.stringContaining('refuses the sign-in'));
  expect(stateOf(signedIn, 'sign-in')).toBe('wrong');
  expect(JSON.stringify(signedIn)).not.toContain(PASSWORD);
  // Somebody finds out Leo’s password.
  const leo = { user: `leo@${DOMAIN}`, into: 'leo' };
  expect((await house.api.call('POST', `${path}/accounts`, { accounts: [{ ...leo, password: null }] })).status).toBe(422);
  const mended = await house.api.call<MovePlanDetails>('POST', `${path}/accounts`, { accounts: [{ ...leo, password: PASSWORD }] });
  expect(stateOf(mended.body, 'sign-in')).toBe('next');
  expect(stateOf(await carried('sign-in'), 'sign-in')).toBe('done');

  const [one, other] = await Promise.all([next('mailboxes'), next('mailboxes')]);
  expect([one.status, other.status].sort()).toEqual([200, 409]);
  expect([one.body.passwords, other.body.passwords].filter(Boolean)).toEqual([[]]);
  expect(stateOf(await carried('first-pass'), 'first-pass')).toBe('done');
  expect(await inbox(house, 'ana')).toEqual(['before']);

  // The mailbox is here, and what others here write still goes to where it is read.
  await write('while it lives there');
  expect(await inbox(old, 'ana')).toEqual(['before', 'while it lives there']);
  expect(await inbox(house, 'ana')).toEqual(['before']);
  const explained = await house.api.call<{ steps: { text: string }[] }>(
    'GET',
    `/explain?from=eva@near.example&to=ana@${DOMAIN}&as=eva@near.example`,
  );
  expect(explained.body.steps?.at(-1)?.text).toBe(`handed to ${OLD_MX}`);

  expect((await next('short-ttl')).body).toMatchObject({ detail: expect.stringContaining('kept for 24 hours') });
  lead(OLD_MX, 300);
  expect(stateOf(await check(), 'short-ttl')).toBe('waiting');
  expect((await house.api.call('POST', `${path}/skip`, { step: 'mx' })).status).toBe(409);
  const skipped = await house.api.call<MovePlanDetails>('POST', `${path}/skip`, { step: 'short-ttl' });
  expect(stateOf(skipped.body, 'short-ttl')).toBe('skipped');

  // The sheets go to where people read now.
  await next('sheets');
  await expect.poll(async () => stateOf(await plan(), 'sheets')).toBe('done');
  expect(await inbox(old, 'leo')).toEqual(['Settings for leo@shop.example', 'before']);
  expect(stateOf(await plan(), 'mx')).toBe('next');
  expect((await next('mx')).body).toMatchObject({ detail: expect.stringContaining('goes to another server') });

  lead('mail.host.example', 300);
  await append('ana', 'late');
  const moved = await check();
  expect(moved).toMatchObject({ oldServer: null });
  expect(stateOf(moved, 'mx')).toBe('done');
  await write('now it lives here');
  expect(await inbox(house, 'ana')).toEqual(['before', 'now it lives here']);

  // The last pass begins by itself, finds what came there late, and goes on looking.
  const watch = new MoveWatch(house.service.context);
  await watch.turn();
  await expect.poll(async () => (await inbox(house, 'ana')).length, { timeout: 20_000 }).toBe(5);
  expect(await inbox(house, 'ana')).toEqual([
    'Settings for ana@shop.example',
    'before',
    'late',
    'now it lives here',
    'while it lives there',
  ]);
  await watch.turn();
  expect(stateOf(await plan(), 'last-pass')).toBe('under-way');
  expect((await house.api.list<{ domain: string }>('/move-plans')).map((row) => row.domain)).toEqual([DOMAIN]);
  expect((await house.api.call('DELETE', path)).status).toBe(409);

  // A stop of the service is no end of it.
  const { transfers, db } = house.service.context;
  const under = (await house.api.list<{ id: number; state: string }>('/transfers')).find((row) => row.state === 'under-way');
  await transfers.stop();
  await db.commit(() => db.run("UPDATE transfer SET state = 'under-way', ended_at = NULL WHERE id = ?", under?.id ?? 0));
  await transfers.start();
  expect(stateOf(await plan(), 'last-pass')).toBe('under-way');
  const stopped = await house.api.call<MovePlanDetails>('POST', `${path}/undo`, { step: 'last-pass' });
  expect(stateOf(stopped.body, 'last-pass')).toBe('wrong');

  expect((await house.api.call('DELETE', path)).status).toBe(200);
  expect(db.one('SELECT (SELECT count(*) FROM move_plan) + (SELECT count(*) FROM move_step) AS rows')).toEqual({ rows: 0 });
  expect((await house.api.call('GET', path)).status).toBe(404);
});

it('steps are taken back: mailboxes that were made, and the stay of mail here when the MX records are set back', async () => {
  const { db } = house.service.context;
  for (const person of PEOPLE) await house.api.call('DELETE', `/mailboxes/${person}@${DOMAIN}`);
  lead(OLD_MX, 300);
  const accounts = PEOPLE.map((person) => ({ user: `${person}@${DOMAIN}`, password: null, into: person }));
  // A master who is none; the passwords are made here then, and told once.
  await house.api.call('POST', path, ask({ accounts, master: { user: 'nobody', password: 'wrong' } }));
  expect(stateOf(await carried('sign-in'), 'sign-in')).toBe('wrong');
  await house.api.call('DELETE', path);
  await house.api.call('POST', path, ask());
  await db.commit(() => db.run("INSERT INTO move_step (domain_id, step, is_skipped) SELECT domain_id, 'sign-in', 1 FROM move_plan"));
  const made = await next('mailboxes');
  expect(made.body).toMatchObject({ fault: null, passwords: [{ address: `leo@${DOMAIN}`, password: expect.stringMatching(/^.{20,}$/) }] });
  expect(await inbox(house, 'leo', made.body.passwords[0]?.password)).toEqual([]);
  const undone = await house.api.call<MovePlanDetails>('POST', `${path}/undo`, { step: 'mailboxes' });
  expect(stateOf(undone.body, 'mailboxes')).toBe('next');
  expect(lookUpMailbox(db, 'leo', DOMAIN)).toBeUndefined();
  expect((await house.api.call('POST', `${path}/undo`, { step: 'mailboxes' })).status).toBe(409);
  await next('mailboxes');

  lead('mail.host.example', 300);
  expect(await check()).toMatchObject({ oldServer: null });
  expect((await house.api.call('POST', `${path}/undo`, { step: 'mailboxes' })).status).toBe(409);
  expect((await house.api.call('POST', `${path}/undo`, { step: 'mx' })).body).toMatchObject({
    detail: expect.stringContaining('point here'),
  });
  lead(OLD_MX, 300);
  const back = await house.api.call<MovePlanDetails>('POST', `${path}/undo`, { step: 'mx' });
  expect(back.body).toMatchObject({ oldServer: OLD_MX });
  expect((await house.api.call('POST', `${path}/undo`, { step: 'sheets' })).status).toBe(409);

  // A domain that goes takes its plan and its passwords along.
  expect((await house.api.call('DELETE', `/domains/${DOMAIN}`)).status).toBe(200);
  expect(db.one('SELECT count(*) AS rows FROM move_plan')).toEqual({ rows: 0 });
  expect(MOVE_STEPS).toHaveLength(7);
});
