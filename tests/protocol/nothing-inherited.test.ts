import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, beforeEach, expect, it } from 'vitest';
import type { SendingFailures, SendingView } from '../../src/api/mail-schemas.ts';
import type { Transfer } from '../../src/api/transfer-schemas.ts';
import { listRecipients } from '../../src/store/journeys.ts';
import { findMailbox } from '../../src/store/mailboxes.ts';
import { openProgram } from '../support/mail-program.ts';
import { idOf, openTown, send, type Town } from '../support/town.ts';

let town: Town;
let folder: string;
const call = <T = unknown>(method: string, path: string, body?: unknown) => town.house.api.call<T>(method, path, body);
const must = async <T = unknown>(method: string, path: string, body?: unknown): Promise<T> => {
  const { status, body: answer } = await call<T>(method, path, body);
  expect([method, path, status, status < 300 ? '' : JSON.stringify(answer)]).toEqual([method, path, 200, '']);
  return answer;
};
beforeAll(async () => {
  town = await openTown();
  folder = mkdtempSync(join(tmpdir(), 'tenedor-inherited-'));
  for (const name of ['First', 'Second']) await call('POST', '/customers', { name });
  await town.house.provide('house.example', ['post']);
});
afterAll(async () => {
  await town.close();
  rmSync(folder, { recursive: true });
});
/** A domain of a customer, with a mailbox ana. */
const give = async (customer: string): Promise<void> => {
  await must('POST', '/domains', { name: 'shop.example', customer });
  await town.house.provide('shop.example', ['ana']);
};
const removeDomain = () => must('DELETE', '/domains/shop.example');
beforeEach(async () => {
  if ((await call('GET', '/domains/shop.example')).status === 200) await removeDomain();
  await give('First');
});
/** The domain goes, and comes again for another customer. */
async function again(): Promise<void> {
  await removeDomain();
  await give('Second');
}
const messages = (): number => findMailbox(town.house.service.context.db, 'ana', 'shop.example')?.messages ?? -1;

it('a network that may send as a domain may send as nobody when the domain is gone, also when it comes again', async () => {
  await must('POST', '/networks', { cidr: '198.51.100.32/28', maySubmit: true, domains: ['shop.example'] });
  const mail = async (): Promise<string[]> => {
    const talk = await town.from('198.51.100.40');
    await talk.say('EHLO desk.example');
    const replies = [];
    for (const from of ['ana@shop.example', 'post@house.example'])
      replies.push((await talk.say(`MAIL FROM:<${from}>`)).slice(0, 3), await talk.say('RSET'));
    talk.end();
    return replies.filter((one) => !one.startsWith('250 2.0.0'));
  };
  expect(await mail()).toEqual(['250', '550']);
  await removeDomain();
  expect(await mail()).toEqual(['550', '550']);
  await give('Second');
  expect(await mail()).toEqual(['550', '550']);
  expect(await town.house.api.list('/networks')).toMatchObject([{ anyDomain: false, domains: [] }]);
  // An empty list is nobody; any is said.
  await must('PATCH', '/networks', { cidr: '198.51.100.32/28', anyDomain: true });
  expect(await mail()).toEqual(['250', '250']);
  await must('PATCH', '/networks', { cidr: '198.51.100.32/28', domains: [] });
  expect(await mail()).toEqual(['550', '550']);
  await must('POST', '/networks/remove', { cidr: '198.51.100.32/28' });
});

it('an outlet for a domain or customer is for nobody when they are gone, also when the name comes again', async () => {
  await must('POST', '/outlets', { name: 'theirs', host: 'relay.example', tls: 'offered', domains: ['shop.example'], customers: [] });
  const senders = async () => (await must<{ senders: object }>('GET', '/outlets/theirs')).senders;
  expect(await senders()).toEqual({ isAny: false, customers: [], domains: ['shop.example'] });
  await again();
  expect(await senders()).toEqual({ isAny: false, customers: [], domains: [] });
  await must('PATCH', '/outlets/theirs', { anySender: true });
  expect(await senders()).toMatchObject({ isAny: true });
  await must('PATCH', '/outlets/theirs', { customers: [] });
  expect(await senders()).toMatchObject({ isAny: false });
  await must('DELETE', '/outlets/theirs');
});

it('what led to an address leads there no more when it has gone: aliases, a catch-all, a moved address', async () => {
  await town.house.provide('club.example', ['kim']);
  await must('PATCH', '/domains/club.example', { catchAll: 'ana@shop.example' });
  await must('POST', '/aliases', { address: 'both@club.example', targets: ['ana@shop.example', 'kim@club.example'] });
  expect(JSON.stringify(await must('GET', '/domains/shop.example/removal'))).toMatch(/both@club\.example.*the catch-all of club\.example/);
  await again();
  expect(await must('GET', '/domains/club.example')).toMatchObject({ catchAll: null });
  expect(await must('GET', '/aliases/both@club.example')).toMatchObject({ targets: ['kim@club.example'] });
  await must('PATCH', '/domains/club.example', { catchAll: 'ana@shop.example' });
  await must('DELETE', '/mailboxes/ana@shop.example');
  expect(await must('GET', '/domains/club.example')).toMatchObject({ catchAll: null });
});

it('a mailbox keeps what it gets and forwards a copy; a copy to an address that was removed ends, and does not begin again', async () => {
  const copies = (copyTo: string[]) => call<{ field?: string }>('PATCH', '/mailboxes/post@house.example', { copyTo });
  expect((await copies(['ANA@shop.example', 'ana@shop.example', 'reader@northpost.example'])).status).toBe(200);
  for (const wrong of ['post@house.example', 'nobody@shop.example', 'no address', ''])
    expect((await copies([wrong])).body.field, wrong).toBe('copyTo');
  expect((await copies(Array.from({ length: 11 }, (_, index) => `c${index}@far.example`))).body.field).toBe('copyTo');
  const copyTo = async () => (await must<{ copyTo: string[] }>('GET', '/mailboxes/post@house.example')).copyTo;
  expect(await copyTo()).toEqual(['ana@shop.example', 'reader@northpost.example']);
  const mail = async () => {
    const talk = await town.from('203.0.113.77');
    await talk.say('EHLO far.example');
    const reply = await send(talk, 'x@far.example', 'post@house.example');
    talk.end();
    return listRecipients(town.house.service.context.db, idOf(reply)).map((one) => one.address);
  };
  expect((await mail()).sort()).toEqual(['ana@shop.example', 'post@house.example', 'reader@northpost.example']);
  expect(messages()).toBe(1);
  const { goes } = await must<{ goes: string[] }>('GET', '/domains/shop.example/removal');
  expect(goes.join()).toContain('the copies that post@house.example forwards to ana@shop.example');
  await again();
  expect(await copyTo()).toEqual(['reader@northpost.example']);
  expect((await mail()).sort()).toEqual(['post@house.example', 'reader@northpost.example']);
  expect(messages()).toBe(0);
  await copies([]);
  expect(await mail()).toEqual(['post@house.example']);
});

it('a report about mail of the former owner reaches nobody', async () => {
  const talk = await town.signedIn('ana@shop.example');
  const id = idOf(await send(talk, 'ana@shop.example', 'far@slow.example'));
  talk.end();
  await town.attempted(id);
  await again();
  await must('POST', '/queue/actions', { act: 'drop', ids: [id] });
  const { body } = await call<{ entries: { event: string; text: string }[] }>('GET', `/journeys/${id}`);
  expect(JSON.stringify(body)).toContain('the sender no longer exists');
  expect(messages()).toBe(0);
});

it('what a domain has sent is not the history of another that has the name later', async () => {
  const talk = await town.signedIn('ana@shop.example');
  const taken = idOf(await send(talk, 'ana@shop.example', 'leo@open.example'));
  await town.attempted(taken);
  const history = async (scope: string) => {
    const { body } = await call<SendingView>('GET', `/sending${scope}`);
    const { body: failures } = await call<SendingFailures>('GET', `/sending/failures${scope}`);
    return {
      top: body.top.filter((one) => one.domain === 'shop.example').length,
      outcomes: body.outcomes.reduce((sum, one) => sum + one.sends, 0),
      reasons: failures.reasons.length,
    };
  };
  const refused = idOf(await send(talk, 'ana@shop.example', 'nobody@open.example'));
  await town.attempted(refused);
  // One that is under way when the domain goes ends for nobody.
  const waiting = idOf(await send(talk, 'ana@shop.example', 'later@slow.example'));
  await town.attempted(waiting);
  talk.end();
  expect(await history('?domain=shop.example')).toEqual({ top: 1, outcomes: 2, reasons: 1 });
  const all = await history('');
  await again();
  await must('POST', '/queue/actions', { act: 'drop', ids: [waiting] });
  expect(await history('?domain=shop.example')).toEqual({ top: 0, outcomes: 0, reasons: 0 });
  // It stays what this server has sent.
  const { top, outcomes } = await history('');
  expect([top, outcomes >= all.outcomes]).toEqual([1, true]);
});

it('a transfer is not done again, and a backup not recovered, for another who has the name', async () => {
  const file = join(folder, 'a.eml');
  writeFileSync(file, 'Subject: theirs\r\n\r\nx\r\n');
  const { id } = await must<Transfer>('POST', '/transfers/import-files', { path: file, into: 'ana@shop.example' });
  await town.house.service.context.transfers.over(id);
  expect(messages()).toBe(1);
  const target = join(folder, 'backups');
  await must('POST', '/backups', { target });
  await town.house.service.context.backups.over();
  // An export knows whose mail it has: only the names are in it.
  const out = join(folder, 'export');
  await must('POST', '/domains', { name: 'other.example', customer: 'First' });
  await town.house.provide('other.example', ['li']);
  for (const [path, body] of [
    ['/transfers/export', { what: 'customer', name: 'First', path: out, isArchive: false, form: 'eml' }],
    ['/transfers/import-files', { path: out, into: null }],
  ] as const) {
    const { id } = await must<Transfer>('POST', path, body);
    await town.house.service.context.transfers.over(id);
  }
  const [taken] = await town.house.api.list<Transfer>('/transfers');
  expect(taken).toMatchObject({ kind: 'import', state: 'done' });
  await again();
  expect((await call('POST', `/transfers/${id}/again`)).status).toBe(404);
  const { id: repeated } = await must<Transfer>('POST', `/transfers/${taken?.id}/again`);
  await town.house.service.context.transfers.over(repeated);
  expect(await must('GET', `/transfers/${repeated}`)).toMatchObject({
    parts: expect.arrayContaining([
      expect.objectContaining({ address: 'ana@shop.example', fault: expect.stringContaining('added after this was asked for') }),
      expect.objectContaining({ address: 'li@other.example', fault: null }),
    ]),
  });
  await must('DELETE', '/domains/other.example');
  for (const whose of ['ana@shop.example', 'shop.example']) {
    const recovery = await must<Transfer>('POST', '/transfers/recover', { target, backup: null, whose });
    await town.house.service.context.transfers.over(recovery.id);
    expect(await must('GET', `/transfers/${recovery.id}`)).toMatchObject({
      state: 'failed',
      outcome: expect.stringContaining('an earlier domain of that name'),
    });
  }
  expect(messages()).toBe(0);
});

it('what is shared ends when one of the two becomes another customer’s', async () => {
  await must('POST', '/domains', { name: 'sister.example', customer: 'First' });
  await town.house.provide('sister.example', ['li']);
  await must('PUT', '/mailboxes/ana@shop.example/members', { member: 'li@sister.example', as: 'writer', maySend: true });
  const li = await openProgram(town.house.ports.imaps, 'li@sister.example');
  expect((await li.list()).map((one) => one.path)).toContain('Shared/ana@shop.example/INBOX');
  await must('PATCH', '/domains/sister.example', { customer: 'Second' });
  expect(await town.house.api.list('/mailboxes/ana@shop.example/members')).toEqual([]);
  const later = await openProgram(town.house.ports.imaps, 'li@sister.example');
  expect((await later.list()).map((one) => one.path)).not.toContain('Shared/ana@shop.example/INBOX');
  await later.logout();
});
