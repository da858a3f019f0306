import { createServer } from 'node:net';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { JourneyView } from '../../src/api/journey-schemas.ts';
import type { Limits, Outlet, OutletTest } from '../../src/api/mail-schemas.ts';
import type { QueueList } from '../../src/api/queue-schemas.ts';
import { listRecipients } from '../../src/store/journeys.ts';
import { forgetRemovedDomainKeys } from '../../src/store/keys.ts';
import { idOf, openTown, RELAY, send, type Town } from '../support/town.ts';

let town: Town;
beforeAll(async () => {
  town = await openTown();
  const { house } = town;
  await house.provide('house.example', ['post']);
  await house.provide('shop.example', ['ana']);
  await house.provide('other.example', ['bea']);
});
afterAll(() => town.close());

const call = async <T>(method: string, path: string, body?: unknown): Promise<T> => (await town.house.api.call<T>(method, path, body)).body;
/** Sends as the user, and waits for the first attempt. */
const sent = async (user: string, to: string, subject = 'x'): Promise<string> => {
  const talk = await town.signedIn(user);
  const reply = await send(talk, user, to, `From: ${user}\r\nSubject: ${subject}\r\n\r\nx\r\n`);
  talk.end();
  const id = idOf(reply);
  expect(id, reply).not.toBe('');
  if (listRecipients(town.house.service.context.db, id)[0]?.attempts === 0) await town.attempted(id);
  return id;
};
const story = async (id: string): Promise<string> =>
  (await call<JourneyView>('GET', `/journeys/${id}`)).entries.map((one) => `${one.event}: ${one.text}`).join('\n');

describe('outlets', () => {
  it('a smart host with TLS, a checked certificate and a sign-in carries the mail of whom it is for', async () => {
    const made = await call<Outlet>('POST', '/outlets', {
      name: 'relay',
      host: RELAY.name,
      port: 587,
      user: RELAY.user,
      password: RELAY.password,
      domains: ['shop.example'],
      position: 10,
      whenSpent: 'next',
    });
    expect(made).toMatchObject({ kind: 'smart-host', tls: 'required', hasPassword: true });
    expect(JSON.stringify(made)).not.toContain(RELAY.password);
    const sealed = town.house.service.context.db.one<{ secret: string }>('SELECT secret FROM outlet WHERE name = ?', 'relay')?.secret;
    expect(sealed).toMatch(/^sealed:/);
    expect(await story(await sent('ana@shop.example', 'leo@open.example'))).toMatch(
      /relayed: .*relay\.example \[203\.0\.113\.40\] with TLSv1\.3 through “relay”/,
    );
    expect(town.relay.taken).toBe(1);
    const filed = town.open.nextFiled();
    await sent('bea@other.example', 'leo@open.example');
    expect((await filed).sender).toBe('bea@other.example');
    expect(town.relay.taken).toBe(1);
  });

  it('the test walks the way and says at which step it ends', async () => {
    const test = (body: object = {}) => call<OutletTest>('POST', '/outlets/relay/test', body);
    expect((await test()).steps.map((one) => one.step)).toEqual(['look-up', 'connect', 'greeting', 'hello', 'tls', 'hello', 'sign-in']);
    await call('PATCH', '/outlets/relay', { password: 'wrong' });
    const wrong = await test();
    expect(wrong.works).toBe(false);
    expect(wrong.steps.at(-1)).toMatchObject({ step: 'sign-in', good: false, text: expect.stringContaining('535') });
    await call('PATCH', '/outlets/relay', { password: RELAY.password, host: '127.0.0.1', port: 1 });
    expect((await test()).steps.at(-1)).toMatchObject({
      step: 'connect',
      good: false,
      text: expect.stringContaining('connection refused'),
    });
    await call('PATCH', '/outlets/relay', { host: RELAY.name, port: 587 });
    // A certificate for another name is no certificate: no password is given out there.
    town.house.dns.publish({ name: 'mx.false.example', type: 'A', value: RELAY.address });
    await call('POST', '/outlets', { name: 'false', host: 'mx.false.example', user: 'x', password: 'y', position: 500, isOn: false });
    expect((await call<OutletTest>('POST', '/outlets/false/test', {})).steps.at(-1)).toMatchObject({ step: 'tls', good: false });
    expect((await call<OutletTest>('POST', '/outlets/direct/test', { to: 'open.example' })).works).toBe(true);
    expect((await call<OutletTest>('POST', '/outlets/direct/test', { to: 'nowhere.example' })).works).toBe(false);
    expect((await town.house.api.call('POST', '/outlets/direct/test', {})).status).toBe(422);
  });

  it('a spent allowance leads to the next outlet, or lets mail wait, as set; never one send more', async () => {
    const before = town.relay.taken;
    await call('PUT', '/limits/outlet:relay', { limits: [{ period: 'day', quantity: 'sends', amount: before + 1 }] });
    await sent('ana@shop.example', 'one@open.example');
    expect(town.relay.taken).toBe(before + 1);
    const filed = town.open.nextFiled();
    expect(await story(await sent('ana@shop.example', 'two@open.example'))).toContain('mx.open.example');
    await filed;
    expect(town.relay.taken).toBe(before + 1);
    await call('PATCH', '/outlets/relay', { whenSpent: 'wait' });
    const id = await sent('ana@shop.example', 'three@open.example');
    expect(await story(id)).toContain(
      `waits-for-outlet: three@open.example: the outlet “relay” has used up its limit of ${before + 1} sends per day`,
    );
    const [limit] = (await call<Limits>('GET', '/limits/outlet:relay')).limits;
    expect(limit).toMatchObject({ used: before + 1, reserved: 0 });
    expect(limit?.roomAt).toBeGreaterThan(Date.now() + 23 * 3_600_000);
    // More allowance, and the same mail goes when it is asked to.
    await call('PUT', '/limits/outlet:relay', { limits: [{ period: 'day', quantity: 'sends', amount: null }] });
    const done = town.attempted(id);
    await call('POST', '/queue/actions', { act: 'retry', ids: [id] });
    await done;
    expect(town.relay.taken).toBe(before + 2);
  });

  it('switched off without a restart; with none on, mail waits and says why', async () => {
    await call('PATCH', '/outlets/relay', { isOn: false });
    const filed = town.open.nextFiled();
    await sent('ana@shop.example', 'four@open.example');
    await filed;
    await call('PATCH', '/outlets/direct', { isOn: false });
    const id = await sent('ana@shop.example', 'five@open.example');
    expect(await story(id)).toContain('no enabled outlet matches this mail');
    const done = town.attempted(id);
    await call('PATCH', '/outlets/direct', { isOn: true });
    await call('POST', '/queue/actions', { act: 'retry', ids: [id] });
    await done;
    expect(await story(id)).toContain('relayed');
  });

  it('leaves from the address that is set, IPv4 or IPv6, and has its include in the senders’ SPF', async () => {
    const heard: string[] = [];
    const server = createServer((socket) => {
      heard.push(`${socket.remoteAddress}`.replace('::ffff:', ''));
      socket.end('554 5.3.2 not today\r\n');
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const { port } = server.address() as { port: number };
    await call('POST', '/outlets', {
      name: 'sourced',
      host: '127.0.0.1',
      port,
      tls: 'none',
      sourceIpv4: '127.0.0.3',
      domains: ['other.example'],
      position: 600,
      spfInclude: 'spf.relay.example',
    });
    expect((await call<OutletTest>('POST', '/outlets/sourced/test', {})).steps.at(-1)).toMatchObject({
      step: 'greeting',
      good: false,
      text: expect.stringContaining('554'),
    });
    expect(heard).toEqual(['127.0.0.3']);
    server.close();
    const spf = async (domain: string) =>
      (await call<{ records: { subject: string; value: string }[] }>('GET', `/domains/${domain}/records`)).records.find(
        (one) => one.subject === 'spf',
      )?.value;
    expect(await spf('other.example')).toContain('include:spf.relay.example');
    expect(await spf('shop.example')).not.toContain('include:');
    await call('DELETE', '/outlets/sourced');
  });

  it.each([
    [{ name: 'x' }, 'host'],
    [{ name: 'x', host: 'not a host' }, 'host'],
    [{ name: 'x', host: 'h.example', user: 'u', tls: 'offered' }, 'tls'],
    [{ name: 'x', host: 'h.example', destinations: ['*'] }, 'destinations'],
    [{ name: 'x', host: 'h.example', sourceIpv4: '::1' }, 'sourceIpv4'],
    [{ name: '../x', host: 'h.example' }, 'name'],
    [{ name: 'x', kind: 'direct', host: 'h.example' }, 'host'],
  ])('%j is refused at %s', async (body, field) => {
    expect((await town.house.api.call('POST', '/outlets', body)).body.field).toBe(field);
  });
});

describe('the queue', () => {
  const list = (query = '') => call<QueueList>('GET', `/queue${query}`);

  it('is held, released, tried and dropped by id, domain, destination, sender and age, in bulk with a count first', async () => {
    for (const name of ['a', 'b', 'c']) await sent('ana@shop.example', `${name}@slow.example`, `slow ${name}`);
    const bea = await sent('bea@other.example', 'd@slow.example');
    expect(await list()).toMatchObject({ recipients: 4, messages: 4 });
    expect((await list('?domain=shop.example')).recipients).toBe(3);
    expect((await list('?sender=BEA@other.example')).rows[0]?.journeyId).toBe(bea);
    expect((await list('?destination=open.example')).recipients).toBe(0);
    expect((await list('?olderThanMinutes=5')).recipients).toBe(0);
    expect(await call('GET', '/queue/destinations')).toMatchObject({
      rows: [{ destination: 'slow.example', recipients: 4, delayed: 4, lastReply: expect.stringContaining('451') }],
    });
    const act = (body: object) => town.house.api.call('POST', '/queue/actions', body);
    expect((await act({ act: 'hold' })).status).toBe(422);
    expect((await act({ act: 'hold', domain: 'shop.example', expected: 2 })).status).toBe(409);
    expect((await act({ act: 'hold', domain: 'shop.example', expected: 3, reason: 'looks odd' })).body).toEqual({ recipients: 3 });
    expect((await list('?held=hand')).recipients).toBe(3);
    expect((await act({ act: 'retry', held: 'hand' })).body).toMatchObject({ code: 'in-use', detail: expect.stringContaining('held') });
    const done = town.attempted(bea);
    expect((await act({ act: 'retry', destination: 'slow.example' })).body).toEqual({ recipients: 1 });
    await done;
    expect((await list()).recipients).toBe(3);
    expect((await act({ act: 'release', domain: 'shop.example' })).body).toEqual({ recipients: 3 });
    await expect.poll(async () => (await list()).recipients).toBe(0);
  });

  it('dropping tells the sender; what is gone can’t be acted upon', async () => {
    const id = await sent('ana@shop.example', 'e@slow.example');
    expect((await town.house.api.call('POST', '/queue/actions', { act: 'drop', ids: [id], reason: 'sent by mistake' })).body).toEqual({
      recipients: 1,
    });
    expect(await story(id)).toContain('dropped: e@slow.example: sent by mistake');
    expect(await story(id)).toContain('reported: ana@shop.example was notified (failed)');
    expect((await town.house.api.call('POST', '/queue/actions', { act: 'retry', ids: [id] })).status).toBe(409);
    expect((await town.house.api.call('POST', '/queue/actions', { act: 'retry', ids: ['nothing'] })).status).toBe(404);
  });
});

describe('forwarding', () => {
  it('goes out under a return address of the domain, which leads bounces back, and only bounces', async () => {
    await call('POST', '/aliases', { address: 'fwd@shop.example', targets: ['far@open.example'] });
    const filed = town.open.nextFiled();
    const talk = await town.from('203.0.113.20');
    await talk.say('EHLO mx.open.example');
    expect(await send(talk, 'mar@open.example', 'fwd@shop.example')).toMatch(/^250/);
    const { sender } = await filed;
    expect(sender).toMatch(/^back\.[a-z0-9]+\.[a-z2-7]{16}@shop\.example$/);
    const bounced = town.open.nextFiled();
    expect(await send(talk, '', sender, 'From: mailer@open.example\r\nSubject: Undelivered\r\n\r\nx\r\n')).toMatch(/^250/);
    expect((await bounced).recipient).toBe('mar@open.example');
    expect(await send(talk, 'spam@open.example', sender)).toMatch(/^550 5\.7\.1 Only delivery reports/);
    // Another domain, another letter: nobody makes one up.
    expect(await send(talk, '', sender.replace('shop.example', 'other.example'))).toMatch(/^550 5\.1\.1/);
    const forged = sender.replace(/\.(.)([a-z2-7]{15})@/, (_all, first, rest) => `.${first === 'a' ? 'b' : 'a'}${rest}@`);
    expect(await send(talk, '', forged)).toMatch(/^550 5\.1\.1/);
    talk.end();
    const { total } = await call<{ total: { sends: number } }>('GET', '/ledger/shop.example');
    const statement = await call<{ forwarded: { sends: number }; total: { sends: number } }>('GET', '/statements/shop.example');
    expect(statement.forwarded.sends).toBe(2);
    expect(statement.total.sends).toBe(total.sends);
    const old = sender;
    const id = /^back\.([a-z0-9]+)\./.exec(old)?.[1] ?? '';
    await town.house.service.context.db.commit(() =>
      town.house.service.context.db.run('UPDATE journey SET at = at - ? WHERE id = ?', 15 * 24 * 3_600_000, id),
    );
    const late = await town.from('203.0.113.20');
    await late.say('EHLO mx.open.example');
    expect(await send(late, '', old)).toMatch(/^550 5\.1\.6/);
    late.end();
  });
});

describe('a message that an address leads out', () => {
  it('is refused when it comes back to that address; beside other recipients its text names nobody (RFC 9228)', async () => {
    for (const address of ['round@shop.example', 'onward@shop.example'])
      await call('POST', '/aliases', { address, targets: ['far@open.example'] });
    const talk = await town.from('203.0.113.20');
    await talk.say('EHLO mx.open.example');
    const bring = async (to: string | string[], text?: string): Promise<string> => {
      const filed = town.open.nextFiled();
      expect(await send(talk, 'mar@open.example', to, text)).toMatch(/^250/);
      return (await filed).content.toString();
    };
    const first = await bring('Round@shop.example');
    expect(first.match(/^Delivered-To: .*/gm)).toEqual(['Delivered-To: Round@shop.example']);
    expect(await send(talk, 'mar@open.example', 'round@shop.example', first)).toBe(
      '554 5.4.6 round@shop.example has already passed this message on; it is in a loop',
    );
    const { rows } = await call<{ rows: { id: string; outcome: string }[] }>('GET', '/journeys?search=round@shop.example');
    expect(rows[0]?.outcome).toBe('refused');
    // Another address on the way is no circle; nor is the same one for a mailbox here.
    expect((await bring('onward@shop.example', first)).match(/^Delivered-To: .*/gm)).toHaveLength(2);
    expect(await send(talk, 'mar@open.example', 'ana@shop.example', first.replace(/Round/, 'Ana'))).toMatch(/^250/);
    expect(await bring(['round@shop.example', 'ana@shop.example'])).not.toContain('Delivered-To');
    talk.end();
  });
});

it('what waits of a domain that is removed leaves signed all the same; the key goes when nothing waits', async () => {
  const { db } = town.house.service.context;
  await town.house.provide('leaving.example', ['lia']);
  const [key] = await town.house.api.list<{ selector: string }>('/domains/leaving.example/keys');
  const id = await sent('lia@leaving.example', 'e@slow.example');
  expect(listRecipients(db, id)[0]?.state).toBe('delayed');
  expect((await town.house.api.call('DELETE', '/domains/leaving.example')).status).toBe(200);
  const forgotten = () => forgetRemovedDomainKeys(db);
  expect(await forgotten()).toBe(0);
  const filed = town.slow.nextFiled();
  const attempted = town.attempted(id);
  await call('POST', '/queue/actions', { act: 'retry', ids: [id] });
  expect((await filed).content.toString()).toMatch(new RegExp(`d=leaving\\.example;\\s+s=${key?.selector};`));
  await attempted;
  expect(await story(id)).toContain(`signed for leaving.example with the key ${key?.selector}`);
  expect([await forgotten(), await forgotten()]).toEqual([1, 0]);
});

describe('pass-on and standby', () => {
  it('pass-on asks the other server who exists, takes, and hands over at once, at no cost', async () => {
    // open.example plays the server that has the mailboxes.
    await call('POST', '/domains', { name: 'open.example', customer: 'Customer', role: 'pass-on', primaryServer: '203.0.113.20' });
    const talk = await town.from('203.0.113.77');
    await talk.say('EHLO far.example');
    expect(await send(talk, 'x@far.example', 'nobody@open.example')).toMatch(/^550 5\.1\.1 The server for nobody@open\.example says: 550/);
    const filed = town.open.nextFiled();
    expect(await send(talk, 'x@far.example', 'leo@open.example')).toMatch(/^250/);
    expect(await filed).toMatchObject({ recipient: 'leo@open.example', sender: 'x@far.example' });
    expect((await call<{ total: { sends: number } }>('GET', '/ledger/open.example')).total.sends).toBe(0);
    talk.end();
  });

  it('a client that leaves before it hears whether a recipient is taken leaves no room held', async () => {
    await call('POST', '/domains', { name: 'slow.example', customer: 'Customer', role: 'pass-on', primaryServer: '203.0.113.30' });
    await call('POST', '/aliases', { address: 'both@other.example', targets: ['leo@slow.example', 'x@far.example'] });
    const reserved = async () => (await call<Limits>('GET', '/limits/other.example')).limits[0]?.reserved;
    await call('PUT', '/limits/other.example', { limits: [{ period: 'hour', quantity: 'sends', amount: 1000 }] });
    const begin = async () => {
      const talk = await town.from('203.0.113.78');
      for (const line of ['EHLO far.example', 'MAIL FROM:<x@far.example>']) await talk.say(line);
      return talk;
    };
    // The slow server takes the second time what it has put off the first time.
    const first = await begin();
    expect(await first.say('RCPT TO:<both@other.example>')).toMatch(/^451/);
    first.end();
    const leaving = await begin();
    leaving.write('RCPT TO:<both@other.example>\r\n');
    leaving.end();
    // Who stays is answered later than that one would have been.
    const staying = await begin();
    expect(await staying.say('RCPT TO:<both@other.example>')).toMatch(/^250/);
    expect(await reserved()).toBe(1);
    staying.end();
    await expect.poll(reserved).toBe(0);
  });

  it('standby keeps mail while the primary is away, for known recipients only, and starts when the primary asks', async () => {
    await call('PATCH', '/domains/open.example', { role: 'standby' });
    town.open.close();
    const talk = await town.from('203.0.113.77');
    await talk.say('EHLO far.example');
    const reply = await send(talk, 'x@far.example', 'leo@open.example');
    expect(reply).toMatch(/^250/);
    const id = idOf(reply);
    expect(await send(talk, 'x@far.example', 'unheard@open.example')).toMatch(/^451 4\.4\.1/);
    await call('PATCH', '/domains/open.example', { recipientList: ['ana', 'leo'] });
    expect(await send(talk, 'x@far.example', 'unheard@open.example')).toMatch(/^550 5\.1\.1/);
    expect(await talk.say('ETRN open.example')).toMatch(/^459 4\.7\.1/);
    talk.end();
    if (listRecipients(town.house.service.context.db, id)[0]?.attempts === 0) await town.attempted(id);
    expect(listRecipients(town.house.service.context.db, id)[0]).toMatchObject({ state: 'delayed', attempts: 1 });
    const primary = await town.from('203.0.113.20');
    await primary.say('EHLO mx.open.example');
    const again = town.attempted(id);
    expect(await primary.say('ETRN open.example')).toMatch(/^250 2\.0\.0/);
    await again;
    expect(await primary.say('ETRN shop.example')).toMatch(/^459/);
    expect(await primary.say('ETRN not_a_domain')).toMatch(/^501/);
    expect(await primary.say('ETRN')).toMatch(/^501/);
    primary.end();
    expect(listRecipients(town.house.service.context.db, id)[0]?.attempts).toBe(2);
  });
});
