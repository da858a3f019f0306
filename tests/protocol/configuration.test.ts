import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { afterAll, afterEach, beforeEach, expect, it } from 'vitest';
import type { SettingChanges } from '../../src/api/configuration-schemas.ts';
import { loadCertificate } from '../../src/net/certificate.ts';
import { StandInDns } from '../../src/standins/dns-server.ts';
import { type House, openHouse } from '../support/house.ts';
import { Talk } from '../support/talk.ts';

const PROGRAM = fileURLToPath(new URL('../../dist/tenedor.mjs', import.meta.url));
const folder = mkdtempSync(join(tmpdir(), 'tenedor-configuration-'));
let house: House;
beforeEach(async () => {
  house = await openHouse();
});
afterEach(() => house.close());
afterAll(() => rmSync(folder, { recursive: true }));

const file = (): string => join(house.folder, 'tenedor.toml');
function edit(...changes: [string | RegExp, string][]): void {
  const before = readFileSync(file(), 'utf8');
  const after = changes.reduce((text, [from, to]) => text.replace(from, to), before);
  expect(after).not.toBe(before);
  writeFileSync(file(), after);
}
const ask = async (how: 'changes' | 'reload'): Promise<SettingChanges['changes']> =>
  (await house.api.call<SettingChanges>(how === 'changes' ? 'GET' : 'POST', `/configuration/${how}`)).body.changes;

it('takes over what can change while it runs, names what waits for a restart, and stands by what it has where the file is broken', async () => {
  expect(await ask('changes')).toEqual([]);
  const other = new StandInDns();
  other.addZone('example');
  other.publish({ name: 'new.example', type: 'A', value: '192.0.2.77' });
  const { context } = house.service;
  const levelOf = (): string => (context.log as unknown as { level: string }).level;
  const asked = async (): Promise<string> => (await context.lookup('new.example' as never, 'A')).kind;
  expect(await asked()).toBe('none');
  const port = await other.listen();
  edit(
    [/resolvers = \[.*\]/, `resolvers = ["127.0.0.1:${port}"]\nblock_lists = ["blocks.example"]`],
    ['level = "info"', 'level = "debug"'],
    ['every_minutes = 0', 'every_minutes = 30'],
    [/$/, '\n[backup]\nevery_hours = 6\n'],
  );
  const changes = await ask('changes');
  expect(changes.map(({ key, from, to, isLive }) => [key, from, to, isLive])).toEqual([
    ['dns.resolvers', expect.stringMatching(/^\["127\.0\.0\.1:\d+"\]$/), `["127.0.0.1:${port}"]`, true],
    ['dns.block_lists', '[]', '["blocks.example"]', true],
    ['checks.every_minutes', '0', '30', false],
    ['backup.every_hours', '24', '6', true],
    ['log.level', '"info"', '"debug"', true],
  ]);
  // To look changes nothing.
  expect([levelOf(), context.backupSettings.everyHours, await asked()]).toEqual(['info', 24, 'none']);
  expect(await ask('reload')).toEqual(changes);
  expect([levelOf(), context.backupSettings.everyHours, context.host.blockLists, await asked()]).toEqual([
    'debug',
    6,
    ['blocks.example'],
    'found',
  ]);
  expect((await ask('changes')).map((one) => one.key)).toEqual(['checks.every_minutes']);
  const journal = JSON.stringify((await house.api.call('GET', '/journal')).body);
  expect(journal).toContain('dns.resolvers, dns.block_lists, backup.every_hours, log.level; needs a restart: 1');
  other.close();

  edit(['level = "debug"', 'level = "loud"']);
  for (const [method, path] of [
    ['GET', 'changes'],
    ['POST', 'reload'],
  ] as const) {
    const { status, body } = await house.api.call(method, `/configuration/${path}`);
    expect([status, body.code, body.detail]).toEqual([409, 'not-set-up', expect.stringMatching(/line \d+: log\.level: expected one of/)]);
  }
  rmSync(file());
  expect((await house.api.call('GET', '/configuration/changes')).body.code).toBe('not-set-up');
  expect(levelOf()).toBe('debug');
});

async function check(path: string): Promise<{ code: number; said: string }> {
  const child = spawn(process.execPath, [PROGRAM, 'config', 'check', '--config', path]);
  let said = '';
  for (const stream of [child.stdout, child.stderr]) stream.on('data', (octets) => (said += octets));
  const [code] = await once(child, 'close');
  return { code, said };
}

it('before a start all that is wrong is found at once', async () => {
  const path = join(folder, 'tried.toml');
  expect(await check(path)).toMatchObject({ code: 3, said: expect.stringContaining('can’t be read') });
  for (const text of ['', '= what', '\0'.repeat(100_000)]) {
    writeFileSync(path, text);
    expect((await check(path)).code).toBe(1);
  }

  const taken = createServer().listen(0, '127.0.0.1');
  await once(taken, 'listening');
  const { port } = taken.address() as { port: number };
  await loadCertificate(null, folder, 'first.host.example');
  await loadCertificate(null, folder, 'second.host.example');
  house.dns.publish({ name: 'mail.host.example', type: 'A', value: '192.0.2.25' });
  mkdirSync(join(folder, 'place'));
  const good = readFileSync(file(), 'utf8')
    .replace(/^data = .*/m, 'data = "data"')
    .replace(/addresses = \[.*\]/, 'addresses = ["192.0.2.25"]')
    .concat('\n[backup]\ntarget = "place"\n[tls]\ncertificate = "tls/first.host.example.pem"\nkey = "tls/first.host.example.key"\n');
  writeFileSync(path, good);
  const { code, said } = await check(path);
  expect([code, said]).toEqual([0, expect.stringContaining('The service can start with it.')]);
  for (const part of ['made at the first start', 'first.host.example, until', 'place of backups', 'it answers'])
    expect(said).toContain(part);

  const bad = good
    .replace('first.host.example.key', 'second.host.example.key')
    .replace('target = "place"', 'target = "/proc/none"')
    .replace('port = 0', `port = ${port}`)
    .replace('address = "127.0.0.1"\nport = 0', 'address = "198.51.100.1"\nport = 0')
    .replace(/resolvers = \["127.0.0.1:\d+"\]/, `resolvers = ["127.0.0.1:${port}"]`);
  writeFileSync(path, bad);
  const found = await check(path);
  expect(found.code).toBe(1);
  for (const part of [
    /✕ certificate .*key/,
    /✕ place of backups \/proc\/none/,
    /✕ smtp 127\.0\.0\.1:\d+: another program uses that port/,
    /✕ submission 198\.51\.100\.1:0: this machine does not have that address/,
    /✕ name server 127\.0\.0\.1:\d+: it does not answer/,
    /5 things keep a service from starting/,
  ])
    expect(found.said).toMatch(part);
  taken.close();
  // A certificate of one that runs here, and its ports, are no fault.
  expect(await check(file())).toMatchObject({ code: 0, said: expect.stringContaining('a service runs on it') });
});

it('how many connections one address may have is taken over at once, in the processes that speak IMAP, too', async () => {
  const own = await openHouse({ processes: 1 });
  const file = join(own.folder, 'tenedor.toml');
  const talks: Talk[] = [];
  const greeted = async (service: 'smtp' | 'imap'): Promise<string> => {
    const talk = await Talk.to(own.ports[service]);
    talks.push(talk);
    return talk.until((text) => text.includes('\r\n'));
  };
  for (const service of ['smtp', 'imap'] as const) expect(await greeted(service)).toMatch(/^(220|\* OK)/);
  writeFileSync(file, readFileSync(file, 'utf8').replace('[mail]', '[connections]\nper_address = 1\n[mail]'));
  const { body } = await own.api.call<SettingChanges>('POST', '/configuration/reload');
  expect(body.changes).toMatchObject([{ key: 'connections.per_address', from: '200', to: '1', isLive: true }]);
  expect(await greeted('smtp')).toMatch(/^421 /);
  await expect.poll(() => greeted('imap')).toMatch(/^\* BYE/);
  for (const one of talks) one.end();
  await own.close();
});
