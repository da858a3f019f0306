import { request } from 'node:http';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Token, WebSession } from '../../src/api/access-schemas.ts';
import type { JournalEntry } from '../../src/api/journey-schemas.ts';
import type { MailboxResult } from '../../src/api/mailbox-schemas.ts';
import { signInMailbox } from '../../src/service/access/sign-in-mailbox.ts';
import { findAccount } from '../../src/store/accounts.ts';
import { lookUpMailbox } from '../../src/store/mailboxes.ts';
import { apiAt, type House, openHouse, PASSWORD } from '../support/house.ts';
import { Talk } from '../support/talk.ts';

let house: House;
beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana', 'leo', 'sam', 'pia']);
});
afterAll(() => house.close());

const call = <T>(method: string, path: string, body?: unknown) => house.api.call<T>(method, path, body);
const idOf = (local: string): number => lookUpMailbox(house.service.context.db, local, 'shop.example')?.id ?? 0;

async function submitter(local: string): Promise<Talk> {
  const talk = await Talk.to(house.ports.submissions, { tls: true });
  await talk.say(null);
  await talk.say('EHLO client.example');
  expect(await talk.say(`AUTH PLAIN ${Buffer.from(`\0${local}@shop.example\0${PASSWORD}`).toString('base64')}`)).toMatch(/^235/);
  return talk;
}
async function reader(local: string): Promise<Talk> {
  const talk = await Talk.to(house.ports.pop3s, { tls: true });
  await talk.pop(null);
  await talk.pop(`USER ${local}@shop.example`);
  expect(await talk.pop(`PASS ${PASSWORD}`)).toMatch(/^\+OK/);
  return talk;
}

describe('a session ends with what was signed in with', () => {
  it.each<[string, string, () => Promise<unknown>]>([
    ['removed', 'ana', () => call('DELETE', '/mailboxes/ana@shop.example')],
    ['given another password', 'leo', () => call('PATCH', '/mailboxes/leo@shop.example', { password: 'another calm harbour' })],
    ['paused', 'sam', () => call('POST', '/stops', { scope: 'sam@shop.example', sending: true, receiving: true })],
  ])('a mailbox that is %s', async (_what, local, change) => {
    const [sending, reading] = [await submitter(local), await reader(local)];
    // In the middle of a message.
    await sending.say(`MAIL FROM:<${local}@shop.example>`);
    await sending.say('RCPT TO:<pia@shop.example>');
    const before = idOf(local);
    expect(await change()).toMatchObject({ status: 200 });
    expect(await sending.closed()).toMatch(/^421 4\.7\.0 .* your sign-in is no longer valid/);
    expect(await reading.closed()).toMatch(/^-ERR \[SYS\/TEMP\] What you signed in with was changed/);
    expect(house.service.context.sessions.count('mailbox', before)).toBe(0);
  });

  it('who is made anew under the same name has another number, and nothing of the one before', async () => {
    const before = idOf('pia');
    await call('PUT', '/limits/pia@shop.example', { limits: [{ period: 'day', quantity: 'sends', amount: 1 }] });
    await call('POST', '/stops', { scope: 'pia@shop.example', sending: true, receiving: false });
    await call('DELETE', '/mailboxes/pia@shop.example');
    const made = await call<MailboxResult>('POST', '/mailboxes', { address: 'pia@shop.example', password: PASSWORD });
    expect(made.status).toBe(200);
    expect(idOf('pia')).toBeGreaterThan(before);
    const { limits, stops } = house.service.context;
    expect(limits.effective({ kind: 'mailbox', id: idOf('pia') })).toEqual([]);
    expect(stops.of({ kind: 'mailbox', id: idOf('pia') })).toEqual([]);
  });

  it('a password that is changed while the old one is compared opens nothing', async () => {
    const { context } = house.service;
    const real = context.passwords;
    let change: () => Promise<unknown> = async () => {};
    context.passwords = Object.assign(Object.create(real) as typeof real, {
      compare: async () => {
        await change();
        return 'right' as const;
      },
    });
    const FROM = { service: 'submission', clientAddress: '192.0.2.9' } as const;
    change = () => call('PATCH', '/mailboxes/pia@shop.example', { password: 'yet another harbour' });
    expect((await signInMailbox(context, 'pia@shop.example', PASSWORD, FROM)).kind).toBe('wrong');
    change = async () => {
      await call('DELETE', '/mailboxes/pia@shop.example');
      await call('POST', '/mailboxes', { address: 'pia@shop.example', password: 'somebody else here' });
    };
    expect((await signInMailbox(context, 'pia@shop.example', PASSWORD, FROM)).kind).toBe('wrong');
    change = async () => {};
    expect((await signInMailbox(context, 'pia@shop.example', PASSWORD, FROM)).kind).toBe('ok');
    context.passwords = real;
  });

  it('a stream ends when its token is revoked', async () => {
    const { body } = await call<{ token: string }>('POST', '/tokens', { name: 'watcher' });
    const response = await fetch(`${house.api.url}/api/v1/journal/live`, { headers: { authorization: `Bearer ${body.token}` } });
    const stream = response.body?.getReader();
    await stream?.read();
    await call('DELETE', '/tokens/watcher');
    let last: { done: boolean } = { done: false };
    while (!last.done) last = (await stream?.read()) ?? { done: true };
    expect((await fetch(`${house.api.url}/api/v1/journal/live`, { headers: { authorization: `Bearer ${body.token}` } })).status).toBe(401);
  });
});

describe('who did it', () => {
  it('stands in every change, with account, token or face, and address', async () => {
    await call('POST', '/customers', { name: 'Olmo' });
    await call('PATCH', '/customers/Olmo', { contact: 'post@olmo.example' });
    await call('POST', '/plans', { name: 'small' });
    await call('PATCH', '/plans/small', { mostMailboxes: 3 });
    await call('DELETE', '/plans/small');
    await call('DELETE', '/customers/Olmo');
    await call('POST', '/tokens', { name: 'one more' });
    await call('DELETE', '/tokens/one%20more');
    const { rows } = (await call<{ rows: JournalEntry[] }>('GET', '/journal?limit=8')).body;
    expect(rows.map((one) => one.event).reverse()).toEqual([
      'customer-added',
      'customer-changed',
      'plan-added',
      'plan-changed',
      'plan-removed',
      'customer-removed',
      'token-added',
      'token-removed',
    ]);
    for (const one of rows) expect(one.by).toBe('operator (token “tests”, 127.0.0.1)');
  });

  it('a page of another site, also one whose name leads here, signs nobody in and asks nothing with a session', async () => {
    const ask = (method: string, headers: Record<string, string>): Promise<number> =>
      new Promise((resolve, reject) => {
        const sent = request(
          {
            port: house.ports.web,
            host: '127.0.0.1',
            method,
            path: '/api/v1/session',
            headers: { 'content-type': 'application/json', ...headers },
          },
          (answer) => {
            answer.resume();
            resolve(answer.statusCode ?? 0);
          },
        );
        sent.on('error', reject);
        sent.end(method === 'POST' ? JSON.stringify({ name: 'operator', password: 'wrong', code: null }) : undefined);
      });
    const own = `127.0.0.1:${house.ports.web}`;
    // 403 by its origin, 401 by its password.
    for (const [headers, status] of [
      [{ host: own }, 401],
      [{ host: own, origin: `http://${own}` }, 401],
      [{ host: 'mail.host.example' }, 401],
      [{ host: `localhost:${house.ports.web}` }, 401],
      [{ host: own, origin: 'http://evil.example' }, 403],
      [{ host: own, origin: 'null' }, 403],
      [{ host: 'evil.example', origin: 'http://evil.example' }, 403],
      [{ host: 'evil.example' }, 403],
    ] as const) {
      expect([headers, await ask('POST', headers)]).toEqual([headers, status]);
      expect([headers, await ask('GET', headers)]).toEqual([headers, status]);
    }
  });
  it('sessions are listed and ended; a new password ends all others; guesses at it are held up', async () => {
    const { db } = house.service.context;
    const open = async (body: object) => {
      const response = await fetch(`${house.api.url}/api/v1/session`, {
        method: 'POST',
        headers: { 'content-type': 'application/json', 'user-agent': 'a test' },
        body: JSON.stringify({ name: 'operator', ...body }),
      });
      expect(response.status).toBe(200);
      const { csrfToken } = (await response.json()) as { csrfToken: string };
      return { cookie: response.headers.getSetCookie()[0]?.split(';')[0] ?? '', 'x-tenedor-csrf': csrfToken };
    };
    const password = 'a quiet lighthouse';
    const first = await open({ password, code: house.service.firstSignIn?.code });
    const [second, third] = [await open({ password, code: null }), await open({ password, code: null })];
    const as = (headers: Record<string, string>) => ({
      call: <T>(method: string, path: string, body?: unknown) => apiAt(house.api.url, null).call<T>(method, path, body, headers),
    });
    const listed = (await as(first).call<{ rows: WebSession[] }>('GET', '/sessions')).body.rows;
    expect(listed).toHaveLength(3);
    expect(listed.filter((one) => one.current)).toHaveLength(1);
    expect(listed[0]).toMatchObject({ address: '127.0.0.1', program: 'a test' });
    const other = listed.find((one) => !one.current);
    expect((await as(first).call('POST', '/sessions/end', { id: other?.id })).body).toEqual({ ended: 1 });
    expect((await as(first).call('POST', '/sessions/end', { id: other?.id })).status).toBe(404);
    expect((await as(first).call('PUT', '/password', { current: password, next: 'a quieter lighthouse' })).status).toBe(200);
    expect((await as(first).call('GET', '/session')).status).toBe(200);
    for (const one of [second, third]) expect((await as(one).call('GET', '/session')).status).toBe(401);
    const answers: number[] = [];
    for (let number = 0; number < 9; number += 1)
      answers.push((await as(first).call('PUT', '/password', { current: `guess ${number} of it`, next: 'whatever it may be' })).status);
    expect(answers.slice(0, 5)).toEqual([422, 422, 422, 422, 422]);
    expect(answers.at(-1)).toBe(429);
    expect(findAccount(db, 'operator')).toBeDefined();
    const { rows } = (await call<{ rows: JournalEntry[] }>('GET', '/journal?limit=50')).body;
    expect(rows.map((one) => one.event)).toEqual(expect.arrayContaining(['signed-in', 'sessions-ended', 'password-changed']));
    expect(rows.find((one) => one.event === 'password-changed')?.by).toBe('operator (console, 127.0.0.1)');
    expect((await call<{ rows: Token[] }>('GET', '/tokens')).status).toBe(200);
  });
});

describe('at the same time', () => {
  it('a domain that is removed while keys are made for it gets proper answers', async () => {
    for (let round = 0; round < 3; round += 1) {
      await house.provide('brief.example');
      const keys = [1, 2, 3].map(() => call('POST', '/domains/brief.example/keys', {}));
      const [removed, ...made] = await Promise.all([call('DELETE', '/domains/brief.example'), ...keys]);
      expect(removed?.status).toBe(200);
      for (const one of made) expect([200, 404, 409]).toContain(one.status);
      await call('DELETE', '/domains/brief.example');
    }
  });

  it('a customer or plan that is removed while a domain is added with it, too', async () => {
    for (let round = 0; round < 3; round += 1) {
      await call('POST', '/customers', { name: 'Brief' });
      await call('POST', '/plans', { name: 'brief' });
      const add = call('POST', '/domains', { name: 'late.example', customer: 'Brief', plan: 'brief' });
      const [added, customer, plan] = await Promise.all([add, call('DELETE', '/customers/Brief'), call('DELETE', '/plans/brief')]);
      expect([200, 404, 409, 422]).toContain(added.status);
      expect([200, 409]).toContain(customer.status);
      expect([200, 409]).toContain(plan.status);
      for (const path of ['/domains/late.example', '/customers/Brief', '/plans/brief']) await call('DELETE', path);
    }
    expect(house.log.filter((line) => line.includes('call failed'))).toEqual([]);
  });
});
