import { EventEmitter } from 'node:events';
import { readdirSync, statSync, truncateSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Overview } from '../../src/api/schemas.ts';
import { ReportLimit } from '../../src/service/acceptance/report-limit.ts';
import { watchFaults } from '../../src/service/base/faults.ts';
import { ledger } from '../../src/service/limits/statements.ts';
import { findJourney, listEntries } from '../../src/store/journeys.ts';
import { PASSWORD } from '../support/house.ts';
import { Talk } from '../support/talk.ts';
import { idOf, openTown, send, type Town } from '../support/town.ts';

let town: Town;
beforeAll(async () => {
  town = await openTown();
  await town.house.provide('shop.example', ['ana']);
  await town.house.provide('house.example');
});
afterAll(() => town.close());

const context = () => town.house.service.context;
const events = (id: string): string[] => listEntries(context().db, id).map((one) => one.event);
const attention = async (): Promise<string> =>
  (await town.house.api.call<Overview>('GET', '/overview')).body.attention.map((one) => one.headline).join('\n');

describe('no backscatter', () => {
  const bringing = async (from: string, address: string): Promise<string> => {
    const talk = await town.from(address);
    await talk.say('EHLO mx.far.example');
    await talk.say(`MAIL FROM:<${from}>`);
    await talk.say('RCPT TO:<ana@shop.example> NOTIFY=SUCCESS');
    await talk.say('DATA');
    const reply = await talk.say(`From: <${from}>\r\nSubject: Buy now\r\n\r\nx\r\n.`);
    talk.end();
    return idOf(reply);
  };
  it('success is told to whom SPF vouches for, and to nobody whose name was only used', async () => {
    const { house } = town;
    house.dns.publish({ name: 'open.example', type: 'TXT', value: 'v=spf1 ip4:203.0.113.20 -all' });
    const forged = await bringing('victim@open.example', '198.51.100.66');
    const honest = await bringing('li@open.example', '203.0.113.20');
    await expect.poll(() => town.open.filed.map((one) => one.recipient)).toContain('li@open.example');
    expect(honest).not.toBe('');
    expect(town.open.filed.every((one) => one.recipient !== 'victim@open.example')).toBe(true);
    expect(events(forged)).toContain('delivered');
  });
  it('whom SPF disowns gets no report of what fails later; of whom nothing is known hears without a word of the stranger', async () => {
    const { house } = town;
    house.dns.publish({ name: 'open.example', type: 'TXT', value: 'v=spf1 ip4:203.0.113.20 -all' });
    house.dns.publish({ name: 'plain.example', type: 'MX', value: '10 mx.open.example' });
    await house.provide('lists.example', ['ana', 'full']);
    await house.api.call('PATCH', '/domains/lists.example', { fullMailbox: 'refuse' });
    await house.api.call('POST', '/aliases', { address: 'team@lists.example', targets: ['ana@lists.example', 'full@lists.example'] });
    await context().db.commit(() => context().db.run("UPDATE kept_mailbox SET quota_bytes = 0 WHERE local = 'full'"));
    const write = async (from: string): Promise<string> => {
      const talk = await town.from('198.51.100.66');
      await talk.say('EHLO mx.far.example');
      const reply = await send(talk, from, 'team@lists.example', `From: <${from}>\r\nSubject: Buy now\r\n\r\nx\r\n`);
      talk.end();
      return idOf(reply);
    };
    const forged = await write('victim@open.example');
    await expect.poll(() => events(forged)).toContain('failed');
    await expect.poll(() => events(forged)).toContain('not-reported');
    expect(events(forged)).not.toContain('reported');
    const unknown = await write('who@plain.example');
    await expect.poll(() => events(unknown)).toContain('reported');
    const said = listEntries(context().db, unknown).find((one) => one.event === 'reported')?.data as { report: string };
    const { file } = findJourney(context().db, said.report) as { file: string };
    const report = (await context().texts.read(file)).toString();
    expect(report).toContain('full@lists.example');
    expect(report).not.toContain('Buy now');
  });
  it('about strangers few reports leave, by domain and by network', () => {
    const reports = new ReportLimit();
    const taken = (at: (number: number) => [string, string]): number =>
      Array.from({ length: 50 }, (_none, number) => reports.take(...at(number), 0)).filter((one) => one).length;
    expect(taken((at) => [`a${at}@one.example`, `203.0.${at}.1`])).toBe(5);
    expect(taken((at) => [`a@d${at}.example`, `198.51.100.${at}`])).toBe(5);
    expect(taken((at) => [`a@e${at}.example`, `2001:db8:1:1::${at}`])).toBe(5);
  });
  it('reports to the outside end after some within the hour', () => {
    const reports = new ReportLimit();
    const taken = Array.from({ length: 30 }, () => reports.take('far@far.example', null, 0)).filter((one) => one).length;
    expect(taken).toBe(20);
    expect(reports.take('far@far.example', null, 3_600_001)).toBe(true);
    expect(
      Array.from({ length: 1200 }, (_none, at) => reports.take(`a${at}@far.example`, null, 3_600_002)).filter((one) => one),
    ).toHaveLength(999);
  });
});

it('mail to postmaster that leads outside is the provider’s, not the customer’s; its parameters are kept', async () => {
  await town.house.api.call('POST', '/aliases', { address: 'post@house.example', targets: ['desk@open.example'] });
  await town.house.provide('third.example');
  const talk = await town.from('198.51.100.66');
  await talk.say('EHLO mx.far.example');
  await talk.say('MAIL FROM:<li@far.example>');
  expect(await talk.say('RCPT TO:<postmaster@third.example>')).toMatch(/^250/);
  await talk.say('RSET');
  const before = (await ledger(context(), 'third.example', 0)).total.sends;
  const reply = await send(talk, 'li@far.example', ['abuse@third.example'], 'From: li@far.example\r\nSubject: x\r\n\r\nx\r\n');
  expect(reply).toMatch(/^250/);
  expect((await ledger(context(), 'third.example', 0)).total.sends).toBe(before);
  const { lines } = await ledger(context(), 'server', 0);
  expect(lines[0]).toMatchObject({ kind: 'forwarded', sends: 1, domain: 'mail.host.example' });
  expect((await ledger(context(), 'house.example', 0)).total.sends).toBe(0);
  await talk.say('MAIL FROM:<li@far.example>');
  expect(await talk.say('RCPT TO:<postmaster> NOTIFY=NEVER')).toMatch(/^250/);
  expect(await talk.say('RCPT TO:<postmaster> NOTIFY=SOMETIMES')).toMatch(/^501/);
  talk.end();
});

it('a text that is missing or damaged is an error to who reads it, never a shorter message; it stands on the overview', async () => {
  const talk = await town.from('198.51.100.66');
  await talk.say('EHLO mx.far.example');
  const text = `From: li@far.example\r\nSubject: large\r\n\r\n${`${'x'.repeat(70)}\r\n`.repeat(5000)}`;
  const id = idOf(await send(talk, 'li@far.example', ['ana@shop.example'], text));
  talk.end();
  const folder = join(town.house.folder, 'data/messages/recent');
  const [file = ''] = readdirSync(folder).filter((name) => statSync(join(folder, name)).size > 300_000);
  truncateSync(join(folder, file), 100_000);
  const reader = await Talk.to(town.house.ports.pop3s, { tls: true });
  await reader.pop(null);
  await reader.pop('USER ana@shop.example');
  const opened = await reader.pop(`PASS ${PASSWORD}`);
  const last = /(\d+) messages/.exec(opened)?.[1] ?? '';
  expect(await reader.pop(`RETR ${last}`, true)).toMatch(/^-ERR \[SYS\/PERM\] The text of that message is damaged/);
  expect(await reader.pop(`TOP ${last} 0`, true)).toMatch(/^-ERR \[SYS\/PERM\]/);
  reader.end();
  await expect.poll(() => events(id)).toContain('text-lost');
  expect(await attention()).toContain('The text of 1 message is missing or damaged');
});

it('a full disk: mail is put off, calls say so, health says so, and all goes on by itself', async () => {
  const { db, space } = context();
  const commit = db.commit.bind(db);
  db.commit = () => Promise.reject(Object.assign(new Error('database or disk is full'), { code: 'SQLITE_FULL' }));
  const talk = await town.from('198.51.100.66');
  await talk.say('EHLO mx.far.example');
  expect(await send(talk, 'li@far.example', ['ana@shop.example'])).toBe(
    '452 4.3.1 The server has no room for more messages right now; try again soon',
  );
  expect(await town.house.api.call('POST', '/customers', { name: 'Nobody' })).toMatchObject({ status: 507, body: { code: 'no-space' } });
  expect((await fetch(`${town.house.api.url}/healthz`)).status).toBe(503);
  expect(await attention()).toContain('The disk is full');
  // New mail is refused from the first command on, and a reader is told in the words of its protocol.
  expect(await talk.say('MAIL FROM:<li@far.example>')).toMatch(/^452 4\.3\.1/);
  db.commit = commit;
  await commit(() => {});
  space.wasWritten();
  expect((await fetch(`${town.house.api.url}/healthz`)).status).toBe(200);
  expect(await send(talk, 'li@far.example', ['ana@shop.example'])).toMatch(/^250/);
  talk.end();
});

it('what nobody has taken is logged with where it came from, counted, and the service goes on', async () => {
  const source = new EventEmitter();
  const { metrics, log } = context();
  const stop = watchFaults(source, { metrics, log });
  source.emit('uncaughtException', new Error('out of the blue'));
  source.emit('unhandledRejection', new Error('a promise that nobody keeps'));
  stop();
  const logged = town.house.log.filter((line) => line.includes('unexpected error')).join('');
  expect(logged).toMatch(/out of the blue.*standing\.test\.ts/);
  expect(await metrics.registry.metrics()).toMatch(/tenedor_faults_total\{from="rejection"\} 1/);
});

it('each port has its share of connections, and one address a part of the web’s', async () => {
  const { connectionShares } = await import('../../src/service/base/descriptor-shares.ts');
  const shares = connectionShares(['smtp', 'submission', 'submissions', 'pop3', 'web'], 1024);
  expect(shares.reduce((sum, one) => sum + one, 0)).toBeLessThanOrEqual(1024 - 400);
  expect(Math.min(...shares)).toBeGreaterThan(40);
  expect(connectionShares(['smtp', 'web'], 1_000_000)).toEqual([10_000, 600]);
  expect(connectionShares(['smtp', 'web'], 64)).toEqual([25, 8]);
  const readers = await Promise.all(
    Array.from({ length: 30 }, () =>
      fetch(`${town.house.api.url}/api/v1/events`, { headers: { authorization: `Bearer ${town.house.token}` } }),
    ),
  );
  expect(readers.filter((one) => one.status === 200)).toHaveLength(24);
  expect(readers.filter((one) => one.status === 429)).toHaveLength(6);
  for (const one of readers) await one.body?.cancel();
  await expect
    .poll(
      async () => (await fetch(`${town.house.api.url}/api/v1/events`, { headers: { authorization: `Bearer ${town.house.token}` } })).status,
    )
    .toBe(200);
  expect(town.house.log.filter((line) => line.includes('HTTP fault'))).toEqual([]);
});
