import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Session } from '../../src/api/access-schemas.ts';
import type { HostReport, RecordSheet } from '../../src/api/dns-schemas.ts';
import type { MailboxResult } from '../../src/api/mailbox-schemas.ts';
import type { Domain, DomainPage, Overview } from '../../src/api/schemas.ts';
import { apiAt, type House, openHouse, PASSWORD } from '../support/house.ts';

let house: House;
beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana']);
});
afterAll(() => house.close());

const call = <T>(method: string, path: string, body?: unknown) => house.api.call<T>(method, path, body);
const refusal = async (method: string, path: string, body?: unknown): Promise<[number, string, string | null]> => {
  const answer = await house.api.call(method, path, body);
  expect(answer.type).toContain('application/problem+json');
  expect(answer.body.detail).toMatch(/[.!]$/);
  expect(answer.body.remedy).not.toBe('');
  return [answer.status, answer.body.code, answer.body.field];
};

describe('provisioning', () => {
  it('takes on an IDNA domain once, however it is written, with a key of its own', async () => {
    const added = await call<Domain>('POST', '/domains', { name: 'Tallernuño.example', customer: 'customer' });
    expect(added).toMatchObject({
      status: 200,
      body: { name: 'xn--tallernuo-s6a.example', display: 'tallernuño.example', role: 'home', plan: 'standard' },
    });
    for (const name of ['tallernuño.example', 'XN--TALLERNUO-S6A.example.'])
      expect(await refusal('POST', '/domains', { name, customer: 'Customer' })).toEqual([409, 'exists-already', 'name']);
    expect((await call<Domain>('GET', `/domains/${encodeURIComponent('tallernuño.example')}`)).body.name).toBe('xn--tallernuo-s6a.example');
    const sheet = await call<RecordSheet>('GET', '/domains/xn--tallernuo-s6a.example/records');
    const other = await call<RecordSheet>('GET', '/domains/shop.example/records');
    const key = (one: typeof sheet) => one.body.records.find((record) => record.subject === 'dkim')?.value;
    expect(key(sheet)).toMatch(/^v=DKIM1; k=rsa; p=[A-Za-z0-9+/]{392}$/);
    expect(key(sheet)).not.toBe(key(other));
  });

  it('at the same time twice, one is told that it exists', async () => {
    const add = () => call<{ code?: string }>('POST', '/mailboxes', { address: 'twin@shop.example' });
    const answers = await Promise.all([add(), add(), add()]);
    expect(answers.map((one) => one.status).sort()).toEqual([200, 409, 409]);
  });

  it('removing says what goes, and leaves no orphan', async () => {
    await house.provide('gone.example', ['bo']);
    await call('POST', '/aliases', { address: 'team@shop.example', targets: ['ana@shop.example', 'bo@gone.example'] });
    await call('POST', '/aliases', { address: 'only@shop.example', targets: ['bo@gone.example'] });
    await call('POST', '/aliases', { address: 'hi@gone.example', targets: ['bo@gone.example'] });
    const { body } = await call<{ goes: string[] }>('GET', '/domains/gone.example/removal');
    expect(body.goes).toEqual([
      '1 mailbox with 0 messages',
      '1 alias',
      'its DKIM keys and limits',
      'the alias only@shop.example, which has no other target',
      'the alias team@shop.example loses the target bo@gone.example',
    ]);
    expect((await call('DELETE', '/domains/gone.example')).status).toBe(200);
    expect(await refusal('GET', '/domains/gone.example')).toEqual([404, 'not-found', null]);
    expect(await house.api.list<{ address: string; targets: string[] }>('/domains/shop.example/aliases')).toMatchObject([
      { address: 'team@shop.example', targets: ['ana@shop.example'] },
    ]);
    const { db } = house.service.context;
    for (const table of ['mailbox', 'alias', 'dkim_key', 'check_result', 'ledger'])
      expect(db.one(`SELECT count(*) AS n FROM ${table} WHERE domain_id NOT IN (SELECT id FROM domain)`), table).toEqual({ n: 0 });
    expect(db.all('PRAGMA foreign_key_check')).toEqual([]);
    await call('DELETE', '/mailboxes/ana@shop.example');
    expect(await house.api.list('/domains/shop.example/aliases')).toEqual([]);
    await house.provide('shop.example', ['ana']);
  });

  it('a plan’s number of mailboxes holds; a new plan brings its limits; what is in use stays', async () => {
    await call('POST', '/plans', {
      name: 'tiny',
      limits: [{ period: 'hour', quantity: 'sends', amount: 2 }],
      mostMailboxes: 1,
      quotaBytes: 1024 ** 2,
    });
    await house.provide('tiny.example', ['one']);
    expect((await call<Domain>('PATCH', '/domains/tiny.example', { plan: 'tiny' })).body).toMatchObject({
      limits: [{ period: 'hour', amount: 2, from: 'plan', used: 0 }],
      mostMailboxes: 1,
    });
    expect(await refusal('POST', '/mailboxes', { address: 'two@tiny.example' })).toEqual([409, 'plan-full', null]);
    expect(await refusal('DELETE', '/plans/tiny')).toEqual([409, 'in-use', null]);
    expect(await refusal('DELETE', '/customers/Customer')).toEqual([409, 'in-use', null]);
    expect(await refusal('PATCH', '/domains/tiny.example', { role: 'away' })).toEqual([409, 'in-use', 'role']);
    expect(
      (await call<MailboxResult>('PATCH', '/mailboxes/one@tiny.example', { password: null, quotaBytes: 5 * 1024 ** 2 })).body,
    ).toMatchObject({ mailbox: { quotaBytes: 5 * 1024 ** 2 }, password: expect.stringMatching(/^[a-z2-9]{5}(-[a-z2-9]{5}){3}$/) });
  });

  it('lists by search, customer, order and page', async () => {
    const { body } = await call<DomainPage>('GET', '/domains?search=TINY');
    expect(body).toMatchObject({ total: 1, rows: [{ name: 'tiny.example', mailboxes: 1 }] });
    expect((await call<DomainPage>('GET', '/domains?search=%25')).body.total).toBe(0);
    const page = await call<DomainPage>('GET', '/domains?sort=mailboxes&limit=1&offset=1');
    expect(page.body.rows).toHaveLength(1);
    expect((await call<Overview>('GET', '/overview')).body.counts.domains).toBe(page.body.total);
    expect((await call<HostReport>('GET', '/host')).body.findings.map((one) => one.code)).toEqual(['host-no-forward', 'reverse-none']);
  });
});

describe('bad input', () => {
  it.each([
    ['POST', '/domains', { name: 'shop', customer: 'Customer' }, 422, 'name'],
    ['POST', '/domains', { name: 'a b.example', customer: 'Customer' }, 422, 'name'],
    ['POST', '/domains', { name: 'mail.host.example', customer: 'Customer' }, 422, 'name'],
    ['POST', '/domains', { name: 'new.example', customer: 'Nobody' }, 404, 'customer'],
    ['POST', '/domains', { name: 'new.example', customer: 'Customer', plan: 'none' }, 404, 'plan'],
    ['POST', '/domains', { name: 'new.example', customer: 'Customer', role: 'guest' }, 422, 'role'],
    ['POST', '/domains', { name: 'new.example', customer: 'Customer', colour: 'red' }, 422, 'colour'],
    ['POST', '/domains', { name: 17, customer: 'Customer' }, 422, 'name'],
    ['POST', '/domains', {}, 422, 'name'],
    ['POST', '/domains', [], 422, null],
    ['POST', '/customers', { name: ' \t' }, 422, 'name'],
    ['POST', '/customers', { name: 'a/b' }, 422, 'name'],
    ['POST', '/customers', { name: 'x'.repeat(2000) }, 422, 'name'],
    ['POST', '/plans', { name: 'p', limits: [{ period: 'hour', quantity: 'sends', amount: -1 }] }, 422, 'limits.0.amount'],
    ['POST', '/plans', { name: 'p', quotaBytes: 1.5 }, 422, 'quotaBytes'],
    ['PUT', '/limits/shop.example', { limits: [{ period: 'year', quantity: 'sends', amount: 1 }] }, 422, 'limits.0.period'],
    ['PUT', '/limits/nobody@shop.example', { limits: [] }, 404, null],
    ['GET', '/limits/customer:Nobody', undefined, 404, null],
    ['GET', '/limits/outlet:nowhere', undefined, 404, null],
    ['GET', '/limits/192.0.2.0%2F24', undefined, 404, null],
    ['PUT', '/limits/none.example', { limits: [{ period: 'hour', quantity: 'sends', amount: 1 }] }, 404, null],
    ['POST', '/mailboxes', { address: 'ana+x@shop.example' }, 422, 'address'],
    ['POST', '/mailboxes', { address: 'Ana@SHOP.example' }, 409, 'address'],
    ['POST', '/mailboxes', { address: 'x@shop.example', password: 'short' }, 422, 'password'],
    ['POST', '/mailboxes', { address: 'x@shop.example', password: 'with a \u0000 in it' }, 422, 'password'],
    ['POST', '/aliases', { address: 'l@shop.example', targets: ['l@shop.example'] }, 422, 'targets'],
    ['POST', '/aliases', { address: 'l@shop.example', targets: [] }, 422, 'targets'],
    ['POST', '/aliases', { address: 'l@shop.example', targets: ['nobody@shop.example'] }, 422, 'targets'],
    ['POST', '/aliases', { address: 'l@shop.example', targets: ['not an address'] }, 422, 'targets'],
    ['GET', '/domains/%00', undefined, 422, null],
    ['GET', '/domains/..%2f..%2fetc', undefined, 422, null],
    ['GET', '/mailboxes/nobody@shop.example', undefined, 404, null],
    ['GET', '/journeys/%27%20OR%201=1', undefined, 404, null],
    ['GET', '/domains?sort=password', undefined, 422, 'sort'],
    ['GET', '/domains?limit=100000', undefined, 422, 'limit'],
    ['GET', '/no/such/call', undefined, 404, null],
    ['DELETE', '/tokens/none', undefined, 404, null],
  ])('%s %s %j: %i, field %s', async (method, path, body, status, field) => {
    const answer = await refusal(method, path, body);
    expect([answer[0], answer[2]]).toEqual([status, field]);
  });

  it('bodies that are no JSON, too large or not UTF-8 are answered', async () => {
    for (const [body, status] of [
      ['{"name":', 422],
      ['null', 422],
      ['"x"', 422],
      [`{"name":"${'x'.repeat(1_100_000)}"}`, 413],
    ] as const)
      expect((await house.api.call('POST', '/customers', body)).status, body.slice(0, 10)).toBe(status);
    expect((await house.api.call('GET', '/overview')).status).toBe(200);
  });

  it('a body of another media type is refused, never read as nothing (RFC 9110 §15.5.16); no body is no body', async () => {
    const count = async () => (await call<{ total: number }>('GET', '/domains')).body.total;
    const before = await count();
    for (const type of ['application/x-www-form-urlencoded', 'text/plain', 'multipart/form-data; boundary=x', ''])
      for (const [method, path] of [
        ['POST', '/domains'],
        ['POST', '/checks'],
        ['PATCH', '/domains/shop.example'],
        ['DELETE', '/domains/shop.example'],
      ] as const) {
        const response = await fetch(`${house.api.url}/api/v1${path}`, {
          method,
          headers: { authorization: `Bearer ${house.token}`, 'content-type': type },
          body: '{"name":"form.example","customer":"Customer"}',
        });
        expect([type, path, response.status, (await response.json()).code]).toEqual([type, path, 415, 'wrong-media-type']);
      }
    expect(await count()).toBe(before);
    expect((await call('POST', '/host/check')).status).toBe(200);
    expect(
      (await house.api.call('POST', '/networks', '{"cidr":"192.0.2.77"}', { 'content-type': 'application/json; charset=utf-8' })).status,
    ).toBe(200);
  });

  it('a name that no address could lead to is refused when it is made; any other can be used everywhere', async () => {
    for (const [path, rest] of [
      ['/customers', {}],
      ['/plans', {}],
      ['/tokens', {}],
    ] as const) {
      for (const name of ['.', '..', '...', 'a/b', 'a\u202eb', 'a\nb\u0007'])
        expect((await refusal('POST', path, { name, ...rest }))[1], `${path} ${name}`).toBe('bad-input');
      for (const name of ['a%2Fb', '?x=1', '#top', 'a\\b', 'ñ', '.a', 'a b', '..a']) {
        expect((await call('POST', path, { name, ...rest })).status, name).toBe(200);
        expect((await call('DELETE', `${path}/${encodeURIComponent(name)}`)).status, name).toBe(200);
      }
    }
  });

  it('what needs mailboxes here is refused for a domain whose mailboxes are elsewhere', async () => {
    await call('POST', '/domains', { name: 'later.example', customer: 'Customer', role: 'standby' });
    expect(await refusal('POST', '/mailboxes', { address: 'a@later.example' })).toEqual([409, 'not-here', null]);
    // Its records are checked and proposed all the same.
    expect((await call('GET', '/domains/later.example/records')).status).toBe(200);
  });
});

describe('access', () => {
  const anonymous = () => apiAt(house.api.url, null);
  it('nothing without a valid token; a revoked one ends at once', async () => {
    for (const headers of [
      {},
      { authorization: 'Bearer tnd_wrong' },
      { authorization: 'Basic eDp5' },
      { cookie: 'tenedor_session=wrong' },
    ] as Record<string, string>[])
      expect((await anonymous().call('GET', '/domains', undefined, headers)).status).toBe(401);
    const { body } = await call<{ token: string }>('POST', '/tokens', { name: 'short-lived' });
    expect((await apiAt(house.api.url, body.token).call('GET', '/domains')).status).toBe(200);
    expect(await refusal('POST', '/tokens', { name: 'short-lived' })).toEqual([409, 'exists-already', 'name']);
    await call('DELETE', '/tokens/short-lived');
    expect((await apiAt(house.api.url, body.token).call('GET', '/domains')).status).toBe(401);
    expect(
      house.service.context.db.all<{ hash: string }>('SELECT hash FROM api_token').every((row) => /^[0-9a-f]{64}$/.test(row.hash)),
    ).toBe(true);
  });

  it('the one-time code works once; the session’s changes need its CSRF token; signing out ends it', async () => {
    const { name = '', code = '' } = house.service.firstSignIn ?? {};
    const signIn = (body: object) =>
      fetch(`${house.api.url}/api/v1/session`, {
        method: 'POST',
        headers: { 'content-type': 'application/json' },
        body: JSON.stringify({ name, ...body }),
      });
    expect((await signIn({ password: 'too short', code })).status).toBe(422);
    const first = await signIn({ password: PASSWORD, code });
    expect(first.status).toBe(200);
    const [cookie = ''] = first.headers.getSetCookie();
    expect(cookie).toMatch(/^tenedor_session=.+; httponly/i);
    expect(cookie).toMatch(/samesite=strict/i);
    const { csrfToken } = (await first.json()) as Session;
    const session = { cookie: cookie.split(';')[0] ?? '' };
    expect((await signIn({ password: PASSWORD, code })).status).toBe(401);
    expect((await anonymous().call('GET', '/domains', undefined, session)).status).toBe(200);
    expect((await anonymous().call('POST', '/customers', { name: 'Forged' }, session)).body.code).toBe('csrf-token-missing');
    expect(
      (await anonymous().call('POST', '/customers', { name: 'Forged' }, { ...session, 'x-tenedor-csrf': 'x'.repeat(csrfToken.length) }))
        .status,
    ).toBe(403);
    expect((await anonymous().call('POST', '/customers', { name: 'Real' }, { ...session, 'x-tenedor-csrf': csrfToken })).status).toBe(200);
    expect(
      (
        await anonymous().call(
          'PUT',
          '/password',
          { current: 'wrong', next: 'another calm one' },
          { ...session, 'x-tenedor-csrf': csrfToken },
        )
      ).body.field,
    ).toBe('current');
    expect((await anonymous().call('DELETE', '/session', undefined, { ...session, 'x-tenedor-csrf': csrfToken })).status).toBe(200);
    expect((await anonymous().call('GET', '/domains', undefined, session)).status).toBe(401);
    expect((await signIn({ password: PASSWORD })).status).toBe(200);
    for (let number = 0; number < 6; number += 1) expect((await signIn({ password: 'wrong' })).status).toBe(401);
    expect((await signIn({ password: PASSWORD })).status).toBe(429);
  });

  it('the document describes the calls; health and metrics answer; pages carry their protection', async () => {
    const document = (await (await fetch(`${house.api.url}/api/v1/openapi.json`)).json()) as {
      openapi: string;
      paths: Record<string, Record<string, { requestBody?: unknown }>>;
    };
    expect(document.openapi).toBe('3.1.0');
    expect(Object.keys(document.paths)).toContain('/limits/{scope}');
    expect(document.paths['/domains']?.['post']?.requestBody).toMatchObject({
      content: { 'application/json': { schema: { required: ['name', 'customer'], additionalProperties: false } } },
    });
    expect(await (await fetch(`${house.api.url}/healthz`)).json()).toMatchObject({ status: 'up' });
    expect(await (await fetch(`${house.api.url}/metrics`)).text()).toMatch(/^tenedor_queue_recipients 0$/m);
    const page = await fetch(`${house.api.url}/domains/shop.example`);
    expect(page.headers.get('content-security-policy')).toContain("default-src 'self'");
    expect(await page.text()).toContain('<div id="root">');
    expect((await fetch(`${house.api.url}/assets/../../../package.json`)).headers.get('content-type')).toContain('html');
  });
});

// The last of all: whoever guesses has to wait afterwards.
it('who is not signed in is told how, who must wait how long; HEAD is as GET', async () => {
  const get = (path: string, init: RequestInit = {}) => fetch(`${house.api.url}${path}`, init);
  expect((await get('/api/v1/domains')).headers.get('www-authenticate')).toBe('Bearer realm="Tenedor"');
  const guess = () =>
    get('/api/v1/session', {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ name: 'nobody-here', password: 'guess' }),
    });
  let answer = await guess();
  for (let tries = 0; tries < 20 && answer.status !== 429; tries += 1) answer = await guess();
  expect(answer.status).toBe(429);
  expect(Number(answer.headers.get('retry-after'))).toBeGreaterThan(0);
  for (const path of ['/', '/domains/shop.example', '/healthz'])
    expect([path, (await get(path, { method: 'HEAD' })).status]).toEqual([path, (await get(path)).status]);
});
