import { readdirSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, it } from 'vitest';
import type { BackupState } from '../../src/api/backup-schemas.ts';
import type { MovedAddress } from '../../src/api/moved-schemas.ts';
import type { Transfer } from '../../src/api/transfer-schemas.ts';
import { type House, openHouse, PASSWORD } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';
import { Talk } from '../support/talk.ts';

let house: House;
beforeAll(async () => {
  house = await openHouse();
  await house.provide('shop.example', ['ana', 'leo']);
  await house.provide('stays.example', ['mar']);
});
afterAll(() => house.close());

const call = <T = { detail: string; remedy: string; field: string | null }>(method: string, path: string, body?: object) =>
  house.api.call<T>(method, path, body);

/** What RCPT says to a server from elsewhere. */
async function asked(address: string): Promise<string> {
  const talk = await Talk.to(house.ports.smtp);
  await talk.say(null);
  await talk.say('EHLO mx.far.example');
  await talk.say('MAIL FROM:<pau@far.example>');
  const said = await talk.say(`RCPT TO:<${address}>`);
  talk.end();
  return said.trim();
}

it('mail is led to the new address for a while, then refused with it; without one, nobody is told', async () => {
  expect((await call('POST', '/moved-addresses', { address: 'leo@shop.example', to: 'leo@far.example' })).body.detail).toContain(
    'is already a mailbox',
  );
  await call('DELETE', '/mailboxes/leo@shop.example');
  const led = await call<MovedAddress>('POST', '/moved-addresses', { address: 'Leo@shop.example', to: 'leo@far.example', forwardDays: 30 });
  expect(led).toMatchObject({ status: 200, body: { address: 'leo@shop.example', to: 'leo@far.example' } });
  expect(await asked('leo@shop.example')).toMatch(/^250 2\.1\.5/);
  const { db } = house.service.context;
  await db.commit(() => db.run('UPDATE moved_address SET forward_until = ?', Date.now()));
  expect(await asked('leo@shop.example')).toBe('551 5.1.6 leo@shop.example has moved; write to leo@far.example');
  expect(await asked('LEO+tag@shop.example')).toMatch(/^551 5\.1\.6/);
  await call('POST', '/moved-addresses', { address: 'old@shop.example' });
  expect(await asked('old@shop.example')).toBe('550 5.1.6 old@shop.example has moved, and takes no mail here');
  // Nobody gets an address that somebody else still writes to.
  expect((await call('POST', '/mailboxes', { address: 'leo@shop.example' })).body).toMatchObject({
    ...{ detail: 'leo@shop.example has moved.', remedy: expect.stringContaining('tenedor moved remove') },
  });
  expect((await house.api.list<MovedAddress>('/domains/shop.example/moved-addresses')).map((one) => one.address)).toEqual([
    'leo@shop.example',
    'old@shop.example',
  ]);
  expect((await call('DELETE', '/moved-addresses/old@shop.example')).status).toBe(200);
  expect(await asked('old@shop.example')).toMatch(/^550 5\.1\.1/);
  expect((await call('DELETE', '/moved-addresses/old@shop.example')).status).toBe(404);
});

it.each([
  [{ address: 'nobody' }, 422, 'address'],
  [{ address: 'x@shop.example', to: 'x y' }, 422, 'to'],
  [{ address: 'x@shop.example', to: 'X@shop.example' }, 422, 'to'],
  [{ address: 'x@shop.example', forwardDays: 30 }, 422, 'to'],
  [{ address: 'x@shop.example', to: 'x@far.example', forwardDays: 1e9 }, 422, 'forwardDays'],
  [{ address: 'x@nowhere.example', to: 'x@far.example' }, 404, 'address'],
  [{ address: 'leo@shop.example', to: 'x@far.example' }, 409, 'address'],
])('%j: %i', async (body, status, field) => {
  const answer = await call('POST', '/moved-addresses', body);
  expect({ status: answer.status, field: answer.body.field ?? null }).toEqual({ status, field });
});

it('a customer who leaves gets everything, and nothing of them stays: no row, no text, and all is whole', async () => {
  const program = await openProgram(house.ports.imaps, 'ana@shop.example', { password: PASSWORD });
  for (const size of [10, 5000]) await program.append('INBOX', `Subject: ${size}\r\n\r\n${`${'y'.repeat(70)}\r\n`.repeat(size)}`);
  await program.logout();
  const path = join(house.folder, 'leaving');
  const { body } = await call<Transfer>('POST', '/transfers/export', { what: 'domain', name: 'shop.example', path });
  await house.service.context.transfers.over(body.id);
  expect((await call<Transfer>('GET', `/transfers/${body.id}`)).body).toMatchObject({ state: 'done', taken: 2 });
  expect((await call('DELETE', '/domains/shop.example')).status).toBe(200);
  const { context } = house.service;
  await context.texts.settle();
  const { db } = context;
  for (const table of ['kept_mailbox', 'folder', 'message', 'moved_address', 'alias', 'taken_message']) {
    const rows = db.all<{ n: number }>(
      table === 'kept_mailbox' || table === 'moved_address' || table === 'alias'
        ? `SELECT count(*) AS n FROM ${table} t LEFT JOIN domain d ON d.id = t.domain_id WHERE d.name IS NOT 'stays.example'`
        : `SELECT count(*) AS n FROM ${table} ${table === 'folder' ? 'WHERE mailbox_id NOT IN (SELECT id FROM mailbox)' : ''}`,
    );
    expect([table, rows[0]?.n]).toEqual([table, 0]);
  }
  // What nothing needs is swept a day later; nothing refers to it now.
  expect((await call('POST', '/integrity', {})).status).toBe(200);
  await context.backups.over();
  const { lastIntegrity } = (await call<BackupState>('GET', '/backups/state')).body;
  expect(lastIntegrity).toMatchObject({ isGood: true, outcome: expect.stringContaining('No problems found.') });
  expect(readdirSync(path).sort()).toEqual(['checksums.txt', 'domains', 'manifest.json']);
});
