import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Token } from '../../src/api/access-schemas.ts';
import { CALLS } from '../../src/api/calls.ts';
import type { ListsResult, Mailbox, MailboxResult } from '../../src/api/mailbox-schemas.ts';
import type { Customer, Domain, Plan } from '../../src/api/schemas.ts';
import { AnsweredRequests } from '../../src/service/base/answered-requests.ts';
import { Problem } from '../../src/service/base/problem.ts';
import { forgetAnswered } from '../../src/store/answered-requests.ts';
import { type House, openHouse } from '../support/house.ts';

let house: House;
beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana']);
});
afterAll(() => house.close());

const call = <T>(method: string, path: string, body?: unknown, headers?: Record<string, string>) =>
  house.api.call<T & { code?: string; field?: string | null }>(method, path, body, headers);

describe('lists', () => {
  const rows = async <Row>(path: string) => (await call<{ total: number; rows: Row[]; next: string | null }>('GET', path)).body;

  beforeAll(async () => {
    for (const local of ['mar', 'Leo', 'bo10', 'bo9', 'a_b'])
      await call('POST', '/mailboxes', { address: `${local}@shop.example`, password: null });
    await call('POST', '/aliases', { address: 'team@shop.example', targets: ['ana@shop.example', 'x@far.example'] });
    for (const name of ['Vivero Sol', 'Casa 10 %']) await call('POST', '/customers', { name, contact: `${name.length}@desk.example` });
  });

  it('each is given by pages, with how many there are in all; one after the other they are the whole', async () => {
    const path = '/domains/shop.example/mailboxes';
    const whole = await rows<Mailbox>(path);
    expect(whole.total).toBe(6);
    const pieces: string[] = [];
    for (let offset = 0; offset < whole.total; offset += 4) {
      const page = await rows<Mailbox>(`${path}?limit=4&offset=${offset}`);
      expect(page.total).toBe(6);
      pieces.push(...page.rows.map((one) => one.local));
    }
    expect(pieces).toEqual(whole.rows.map((one) => one.local));
    expect((await rows<Mailbox>(`${path}?reverse=true`)).rows.map((one) => one.local)).toEqual(pieces.toReversed());
    expect(await rows(`${path}?offset=100`)).toEqual({ total: 6, rows: [], next: null });
  });

  it('a cursor goes on where the page before it ended, whatever was removed meanwhile, and is of its own order only', async () => {
    const { next } = await rows<Mailbox>('/domains/shop.example/mailboxes?limit=2');
    for (const wrong of [
      `${next}&reverse=true`,
      `${next}&sort=storage`,
      'x',
      '%00',
      '',
      'W10',
      'x'.repeat(5000),
      Buffer.from('["name",{}]').toString('base64url'),
    ])
      expect((await call('GET', `/domains/shop.example/mailboxes?after=${wrong}`)).body, wrong.slice(0, 99)).toMatchObject({
        code: 'bad-input',
        field: 'after',
      });
    expect((await rows<Mailbox>(`/domains/shop.example/mailboxes?after=${next}`)).rows.map((one) => one.local)).toEqual(
      (await rows<Mailbox>('/domains/shop.example/mailboxes?offset=2')).rows.map((one) => one.local),
    );
  });

  it('a search is for the text as it stands, in any case, wherever it is in the row', async () => {
    const found = async (path: string) =>
      (await rows<{ address?: string; name?: string }>(path)).rows.map((one) => one.address ?? one.name);
    expect(await found('/domains/shop.example/mailboxes?search=LEO')).toEqual(['leo@shop.example']);
    expect(await found('/domains/shop.example/mailboxes?search=_')).toEqual(['a_b@shop.example']);
    expect(await found('/domains/shop.example/aliases?search=FAR.example')).toEqual(['team@shop.example']);
    expect(await found('/customers?search=%25')).toEqual(['Casa 10 %']);
    expect(await found('/customers?search=10@desk')).toEqual(['Vivero Sol']);
    expect(await found("/customers?search=' OR 1=1")).toEqual([]);
    expect(await found('/tokens?search=TEST')).toEqual(['tests']);
  });

  it('what is asked of a list is answered or refused, never taken for something else', async () => {
    for (const [query, field] of [
      ['limit=0', 'limit'],
      ['limit=501', 'limit'],
      ['limit=many', 'limit'],
      ['offset=-1', 'offset'],
      ['sort=nothing', 'sort'],
      ['reverse=1', 'reverse'],
      ['page=2', 'page'],
    ])
      for (const path of ['/customers', '/plans', '/networks', '/lockouts', '/sessions', '/stops', '/domains/shop.example/aliases'])
        expect((await call('GET', `${path}?${query}`)).body, `${path} ${query}`).toMatchObject({ code: 'bad-input', field });
    // In every order that the document names.
    for (const one of CALLS)
      if (one.method === 'get' && one.query && 'sort' in (one.query as unknown as { shape: object }).shape) {
        const { options } = (one.query as unknown as { shape: { sort: { unwrap(): { options: string[] } } } }).shape.sort.unwrap();
        for (const sort of options)
          for (const reverse of [true, false]) {
            const path = `${one.path.replace(':domain', 'shop.example').replace(':address', 'leo@shop.example')}?sort=${sort}&reverse=${reverse}`;
            const whole = await rows<object>(`${path}&limit=500`);
            const pieces: object[] = [];
            for (let after: string | null = ''; after !== null; ) {
              const page: { rows: object[]; next: string | null } = await rows<object>(`${path}&limit=1${after && `&after=${after}`}`);
              pieces.push(...page.rows);
              after = page.next;
            }
            expect(pieces, path).toEqual(whole.rows);
          }
      }
  });

  it('a refusal names the field that holds what is wrong, what it may be, and no secret', async () => {
    const faults: [method: string, path: string, body: object | undefined, field: string | null, remedy: RegExp][] = [
      ['POST', '/stops', { scope: 'nothing.example' }, 'scope', /domain list/],
      ['POST', '/stops/release', { scope: 'shop.example', kind: 'pause' }, 'scope', /brake list/],
      ['PUT', '/domains/shop.example/twin', { of: 'nothing.example' }, 'of', /domain list/],
      // What the path names is no field.
      ['PUT', '/domains/nothing.example/twin', { of: 'shop.example' }, null, /domain list/],
      ['POST', '/mailboxes', { address: 'ana@nothing.example' }, 'address', /domain list/],
      ['PUT', '/mailboxes/ana@shop.example/members', { member: 'no@shop.example' }, 'member', /mailbox list/],
      ['PUT', '/mailboxes/ana@shop.example/retention', { folder: 'None', keepDays: 1 }, 'folder', /mailbox show/],
      ['PUT', '/mailboxes/ana@shop.example/retention', { folder: 'Trash', keepDays: 0 }, 'keepDays', /^Give at least 1\.$/],
      ['PUT', '/notices', { mail: ['limit-warning', 'x'] }, 'mail.1', /^Give one of limit-warning, /],
      ['POST', '/networks', { cidr: '192.0.2.0/24', domains: ['shop.example', 'nothing.example'] }, 'domains.1', /domain list/],
      ['POST', '/queue/actions', { act: 'retry', ids: ['x'] }, 'ids.0', /queue list/],
      ['GET', '/explain?from=a@b.example&to=ana@shop.example&as=no@shop.example', undefined, 'as', /mailbox list/],
    ];
    for (const [method, path, body, field, remedy] of faults)
      expect((await call(method, path, body)).body, `${method} ${path}`).toMatchObject({ field, remedy: expect.stringMatching(remedy) });
    const { body } = await call('POST', '/mailboxes', { address: 'new@shop.example', password: ['a calm evening'] });
    expect(body).toMatchObject({ code: 'bad-input', field: 'password' });
    expect(JSON.stringify(body)).not.toContain('calm');
  });

  it('a list of a hundred thousand recipients is read on request; rows and journal hold its length', async () => {
    const names = Array.from({ length: 100_000 }, (_, index) => `n${index}`);
    expect((await call('POST', '/domains', { name: 'far-office.example', customer: 'Vivero Sol', role: 'standby' })).status).toBe(200);
    const before = (await call<Domain>('GET', '/domains/far-office.example')).body;
    expect(before).toMatchObject({ recipientCount: null, recipientsSetAt: null });
    const set = await call<Domain>('PATCH', '/domains/far-office.example', { recipientList: names });
    expect(set.body).toMatchObject({ recipientCount: 100_000, recipientsSetAt: expect.any(Number) });
    expect(set.body.revision).not.toBe(before.revision);
    expect((await call('GET', '/domains/far-office.example/recipients')).body).toEqual({ recipients: names });
    for (const path of ['/domains', '/domains/far-office.example', '/journal'])
      expect(JSON.stringify((await call('GET', path)).body).length, path).toBeLessThan(100_000);
    const entries = await rows<{ text: string }>('/journal?limit=1');
    expect(entries.rows[0]?.text).toBe('changed: names on the list of recipients 100000');
    await call('PATCH', '/domains/far-office.example', { recipientList: null });
    expect((await call('GET', '/domains/far-office.example/recipients')).body).toEqual({ recipients: null });
    await call('DELETE', '/domains/far-office.example');
  });

  it('the journal is read backwards to its beginning, and nothing is left out or told twice', async () => {
    const seen: string[] = [];
    let before: number | null = null;
    for (let pages = 0; ; pages += 1) {
      const page: { rows: { seq: number; event: string; text: string }[]; next: number | null } = (
        await call<{ rows: { seq: number; event: string; text: string }[]; next: number | null }>(
          'GET',
          `/journal?limit=3${before === null ? '' : `&before=${before}`}`,
        )
      ).body;
      expect(page.rows.length).toBeGreaterThan(0);
      seen.push(...page.rows.map((one) => `${one.seq} ${one.event} ${one.text}`));
      before = page.next;
      if (before === null) break;
      expect(pages).toBeLessThan(100);
    }
    const { db } = house.service.context;
    expect(seen).toHaveLength(db.one<{ n: number }>('SELECT count(*) AS n FROM journal')?.n ?? 0);
    expect(new Set(seen).size).toBe(seen.length);
  });
});

describe('nobody’s change is written over unseen', () => {
  it('a change that names an older revision does nothing; figures that change by themselves make no new one', async () => {
    const path = '/domains/shop.example';
    const { body: seen } = await call<Domain>('GET', path);
    await call('POST', '/mailboxes', { address: 'new@shop.example', password: null });
    const { body: later } = await call<Domain>('GET', path);
    expect([later.mailboxes, later.revision]).toEqual([seen.mailboxes + 1, seen.revision]);
    const mine = { 'if-match': `"${seen.revision}"` };
    const changed = await call<Domain>('PATCH', path, { judge: 'note' }, mine);
    expect([changed.status, changed.body.judge]).toEqual([200, 'note']);
    expect(changed.body.revision).not.toBe(seen.revision);
    for (const [method, at, body] of [
      ['PATCH', path, { judge: 'junk' }],
      ['PUT', `${path}/twin`, { of: 'other.example' }],
      ['DELETE', path, undefined],
    ] as const)
      expect((await call(method, at, body, mine)).body).toMatchObject({ status: 412, code: 'changed-meanwhile' });
    expect((await call<Domain>('GET', path)).body).toEqual(changed.body);
    // Whichever of several it still is; and any, if only it is there.
    const several = { 'if-match': `"${seen.revision}", W/"x", "${changed.body.revision}"` };
    expect((await call('PATCH', path, { judge: 'enforce' }, several)).status).toBe(200);
    expect((await call('PATCH', path, { judge: 'enforce' }, { 'if-match': '*' })).status).toBe(200);
    expect((await call('PATCH', '/domains/gone.example', {}, { 'if-match': '*' })).status).toBe(404);
  });

  it('of many who saw the same, one is first, and the others are told', async () => {
    const { body: plan } = await call<Plan>('GET', '/plans/standard');
    const answers = await Promise.all(
      Array.from({ length: 12 }, (_none, at) =>
        call<Plan>('PATCH', '/plans/standard', { mostMailboxes: 100 + at }, { 'if-match': `"${plan.revision}"` }),
      ),
    );
    expect(answers.map((one) => one.status).toSorted()).toEqual([200, ...Array.from({ length: 11 }, () => 412)]);
    const winner = answers.find((one) => one.status === 200);
    expect((await call<Plan>('GET', '/plans/standard')).body).toEqual(winner?.body);
  });

  it('each resource that can be changed says its revision, in itself and as ETag, alone and in lists', async () => {
    await call('POST', '/networks', { cidr: '198.51.100.0/24', note: 'choir' });
    for (const [path, list] of [
      ['/customers/Customer', '/customers'],
      ['/plans/standard', '/plans'],
      ['/domains/shop.example', '/domains'],
      ['/mailboxes/ana@shop.example', '/domains/shop.example/mailboxes'],
      ['/aliases/team@shop.example', '/domains/shop.example/aliases'],
      ['/outlets/direct', '/outlets'],
    ] as const) {
      const { body } = await call<{ revision: string; name?: string; address?: string }>('GET', path);
      const rows = await house.api.list<typeof body>(list);
      expect(rows.find((one) => one.name === body.name && one.address === body.address)?.revision, path).toBe(body.revision);
      const response = await fetch(`${house.api.url}/api/v1${path}`, { headers: { authorization: `Bearer ${house.token}` } });
      expect(response.headers.get('etag')).toBe(`"${body.revision}"`);
    }
    const [network] = await house.api.list<{ revision: string }>('/networks');
    const change = (revision: string) =>
      call('PATCH', '/networks', { cidr: '198.51.100.77/24', note: 'choir list' }, { 'if-match': `"${revision}"` });
    expect((await change('older')).status).toBe(412);
    expect((await change(network?.revision ?? '')).status).toBe(200);
    expect((await change(network?.revision ?? '')).status).toBe(412);
  });

  it.each(['x', '"a', '"a" "b"', 'W/', '""x""', '"é"'])('If-Match: %s is refused, and nothing is done', async (field) => {
    expect((await call('PATCH', '/domains/shop.example', { judge: 'note' }, { 'if-match': field })).body).toMatchObject({
      code: 'bad-input',
      field: 'If-Match',
    });
    expect((await call<Domain>('GET', '/domains/shop.example')).body.judge).toBe('enforce');
  });

  it('where nothing has a revision, If-Match is not taken and forgotten', async () => {
    expect((await call('POST', '/customers', { name: 'Nobody' }, { 'if-match': '"x"' })).body).toMatchObject({ field: 'If-Match' });
    expect((await call('GET', '/customers/Nobody')).status).toBe(404);
  });
});

describe('what has a key is done once', () => {
  const key = (text: string) => ({ 'idempotency-key': text });
  const count = async (search: string) => (await call<{ total: number }>('GET', `/customers?search=${search}`)).body.total;

  it('repeated, it is answered with what was said first, secrets and all; refusals are not kept', async () => {
    const first = await call<MailboxResult>('POST', '/mailboxes', { address: 'once@shop.example', password: null }, key('"box-1"'));
    expect(first.body.password).toMatch(/^[a-z2-9-]{23}$/);
    const again = await call<MailboxResult>('POST', '/mailboxes', { address: 'once@shop.example', password: null }, key('box-1'));
    expect(again).toEqual(first);
    const { db } = house.service.context;
    expect(JSON.stringify(db.all('SELECT answer FROM answered_request'))).not.toContain(first.body.password);
    expect((await call('POST', '/customers', { name: '' }, key('c-1'))).status).toBe(422);
    expect((await call<Customer>('POST', '/customers', { name: 'Puerto Azul' }, key('c-1'))).body.name).toBe('Puerto Azul');
    expect((await call<Customer>('POST', '/customers', { name: 'Puerto Azul' }, key('c-1'))).status).toBe(200);
    expect((await call('POST', '/customers', { name: 'Puerto Azul' }, key('c-2'))).status).toBe(409);
    expect((await call('DELETE', '/customers/Puerto%20Azul', undefined, key('c-3'))).status).toBe(200);
    expect((await call('DELETE', '/customers/Puerto%20Azul', undefined, key('c-3'))).status).toBe(200);
  });

  it('a secret is shown again only as long as it counts', async () => {
    const made = (path: string, body: unknown, name: string, method = 'POST') =>
      call<Record<string, string>>(method, path, body, key(name));
    const path = '/mailboxes/replaced@shop.example';
    const secrets: { again: () => Promise<{ status: number; body: unknown }>; end: () => Promise<unknown> }[] = [];
    const shown = async (...[to, body, name, method]: Parameters<typeof made>) => {
      const first = await made(to, body, name, method);
      expect(first.status).toBe(200);
      expect(await made(to, body, name, method)).toEqual(first);
      return { again: () => made(to, body, name, method), first };
    };
    const add = await shown('/mailboxes', { address: 'replaced@shop.example', password: null }, 's-1');
    const change = await shown(path, { password: null }, 's-2', 'PATCH');
    // The second password is the one that works now.
    expect((await add.again()).body).toMatchObject({ status: 409, code: 'replaced-since' });
    const device = await shown(`${path}/app-passwords`, { name: 'phone' }, 's-3');
    const token = await shown('/tokens', { name: 'short' }, 's-4');
    const webhook = await shown('/webhooks', { url: 'https://hook.partner.example/', events: ['brake-set'] }, 's-5');
    const witness = await shown('/witnesses', { name: 'reserve.partner.example' }, 's-6');
    const { webhook: kept } = webhook.first.body as unknown as { webhook: { id: number } };
    secrets.push({ again: device.again, end: () => call('DELETE', `${path}/app-passwords/phone`) });
    secrets.push({ again: token.again, end: () => call('DELETE', '/tokens/short') });
    secrets.push({ again: webhook.again, end: () => call('DELETE', `/webhooks/${kept.id}`) });
    secrets.push({ again: witness.again, end: () => call('DELETE', '/witnesses/reserve.partner.example') });
    secrets.push({ again: change.again, end: () => call('DELETE', path) });
    for (const { again, end } of secrets) {
      await end();
      expect((await again()).body).toMatchObject({ status: 409, code: 'replaced-since' });
    }
  });

  it('lists that were refused leave their key free; of passwords that lists made, those that still count are told again', async () => {
    const load = (mailboxes: string, name: string) =>
      call<ListsResult>('POST', '/lists/load', { customers: null, domains: null, mailboxes, trial: false }, key(name));
    const wrong = 'address\nfirst@shop.example\nsecond@nowhere.example\n';
    expect((await load(wrong, 'l-1')).body.faults).toHaveLength(1);
    // One that is refused only after it was begun: corrected, it may have the same key.
    const slow = Array.from({ length: 40 }, (_one, at) => `slow${at}@shop.example,quiet harbour lantern ${at}\n`).join('');
    const begun = (await load(`address,password\n${slow}`, 'l-2')).body;
    expect(begun.isOver).toBe(false);
    await call('POST', '/mailboxes', { address: 'slow39@shop.example', password: null });
    await expect
      .poll(async () => (await call<ListsResult>('GET', `/lists/loads/${begun.id}`)).status, { timeout: 30_000 })
      .toBeGreaterThan(400);
    const corrected = await load('address\nslow0@shop.example\n', 'l-2');
    expect(corrected.body).toMatchObject({ isOver: true, loaded: { mailboxes: 1 } });
    expect((await call('POST', '/customers', { name: 'Other' }, key('l-2'))).body).toMatchObject({ code: 'key-taken' });
    const right = await load('address\nfirst@shop.example\nsecond@shop.example\n', 'l-1');
    expect(right.body.passwords.map((one) => one.address)).toEqual(['first@shop.example', 'second@shop.example']);
    expect((await load('address\nfirst@shop.example\nsecond@shop.example\n', 'l-1')).body).toEqual(right.body);
    await call('PATCH', '/mailboxes/first@shop.example', { password: null });
    expect((await load('address\nfirst@shop.example\nsecond@shop.example\n', 'l-1')).body.passwords).toEqual(right.body.passwords.slice(1));
  });

  it('the same key for something else is refused; another account’s keys are its own', async () => {
    expect((await call('POST', '/customers', { name: 'Luna' }, key('other'))).status).toBe(200);
    for (const [path, body] of [
      ['/customers', { name: 'Sol' }],
      ['/tokens', { name: 'Luna' }],
    ] as const)
      expect((await call(path === '/tokens' ? 'POST' : 'POST', path, body, key('other'))).body).toMatchObject({
        status: 422,
        code: 'key-taken',
      });
    expect([await count('Sol'), (await house.api.list<Token>('/tokens')).map((one) => one.name)]).toEqual([1, ['tests']]);
  });

  it('many at once make one; those who come while it is made are told so', async () => {
    const answers = await Promise.all(Array.from({ length: 20 }, () => call('POST', '/customers', { name: 'Brisa' }, key('brisa'))));
    for (const one of answers) expect([200, 409]).toContain(one.status);
    for (const one of answers.filter((answer) => answer.status === 409)) expect(one.body.code).toBe('under-way');
    expect(await count('Brisa')).toBe(1);
  });

  it.each(['a b', '""', 'ñ'.normalize('NFC'), 'x'.repeat(256)])('the key %j is refused', async (text) => {
    const answer = await call('POST', '/customers', { name: 'Never' }, key(Buffer.from(text).toString('latin1')));
    expect(answer.body).toMatchObject({ code: 'bad-input', field: 'Idempotency-Key' });
    expect(await count('Never')).toBe(0);
  });

  it('what a stop or a fault cut short is not done again unnoticed, and is forgotten after a day', async () => {
    const { context } = house.service;
    const account = 1;
    const before = new AnsweredRequests(context);
    await expect(before.once(account, 'cut', 'the request', () => Promise.reject(new Error('the machine went away')))).rejects.toThrow(
      'went away',
    );
    const after = new AnsweredRequests(context);
    let done = 0;
    const act = async () => {
      done += 1;
      return {};
    };
    await expect(after.once(account, 'cut', 'the request', act)).rejects.toMatchObject({ code: 'outcome-unknown' });
    await expect(after.once(account, 'no', 'x', () => Promise.reject(new Problem('in-use', 'No.', 'No.')))).rejects.toThrow('No.');
    await after.once(account, 'no', 'x', act);
    expect(done).toBe(1);
    const { db, clock } = context;
    const forget = () => db.commit(() => forgetAnswered(db, clock.now() + 1, 500));
    expect(await forget()).toBeGreaterThan(3);
    expect(await forget()).toBe(0);
    await after.once(account, 'cut', 'the request', act);
    expect(done).toBe(2);
  });
});
