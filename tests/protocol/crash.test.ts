import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdtempSync, readdirSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { expect, it } from 'vitest';
import { requireFreePorts } from '../../src/standins/demo-start.ts';
import { StandInDns } from '../../src/standins/dns-server.ts';
import { Database } from '../../src/store/database.ts';
import { apiAt, configText, HOST, openHouse, PASSWORD } from '../support/house.ts';
import { PROGRAM, startProgram } from '../support/program.ts';
import { Talk } from '../support/talk.ts';
import { openTown, RELAY, send } from '../support/town.ts';

interface Submission {
  to: string[];
  text: string;
  /** Notes that it was; returns how many were so far. */
  acknowledged: () => number;
}

/** Eight connections that submit as fast as they are answered; resolves when so many were acknowledged. */
function streams(port: number, most: number, next: (number: number, round: number) => Submission): Promise<void> {
  return new Promise((resolve) => {
    const stream = async (number: number): Promise<void> => {
      const talk = await Talk.to(port, { tls: true });
      await talk.say(null);
      await talk.say('EHLO x.example');
      await talk.say(`AUTH PLAIN ${Buffer.from(`\0ana@shop.example\0${PASSWORD}`).toString('base64')}`);
      for (let round = 0; ; round += 1) {
        const { to, text, acknowledged } = next(number, round);
        if (!(await send(talk, 'ana@shop.example', to, text)).startsWith('250')) return;
        if (acknowledged() >= most) resolve();
      }
    };
    for (let number = 0; number < 8; number += 1) void stream(number);
  });
}

it('kill -9 during a stream of submissions: nothing acknowledged is lost, and the ledger equals what was accepted', async () => {
  // A house in this process prepares the data; the built program then serves it.
  const house = await openHouse();
  await house.provide('shop.example', ['ana', 'li']);
  await house.service.stop();
  const dns = new StandInDns();
  dns.addZone('example');
  // Outside mail waits: the name servers of its domain are silent.
  dns.silent.add('out.example');
  const file = join(house.folder, 'tenedor.toml');
  writeFileSync(file, configText(house.folder, await dns.listen()));

  const acknowledged = new Set<string>();
  const sent = new Set<string>();
  for (const killAfter of [40, 90, 150]) {
    const { child, port } = await startProgram(file);
    const enough = streams(port('submissions'), killAfter, (number, round) => {
      const name = `m${killAfter}-${number}-${round}`;
      sent.add(name);
      const text = `From: ana@shop.example\r\nSubject: ${name}\r\n\r\n${'x'.repeat(round)}\r\n`;
      return { to: [`${name}@out.example`, 'li@shop.example'], text, acknowledged: () => acknowledged.add(name).size };
    });
    await enough;
    child.kill('SIGKILL');
    await once(child, 'exit');
  }

  const { child, output, port } = await startProgram(file);
  // POP3 shows each acknowledged message once, whole.
  const talk = await Talk.to(port('pop3s'), { tls: true });
  await talk.pop(null);
  await talk.pop('USER li@shop.example');
  const count = Number(/^\+OK (\d+)/.exec(await talk.pop(`PASS ${PASSWORD}`))?.[1]);
  const stored: string[] = [];
  for (let number = 1; number <= count; number += 1)
    stored.push(/^Subject: (\S+)/m.exec(await talk.pop(`RETR ${number}`, true))?.[1] ?? '?');
  talk.end();
  expect(acknowledged.size).toBeGreaterThanOrEqual(150);
  expect(new Set(stored).size).toBe(stored.length);
  expect([...acknowledged].filter((name) => !stored.includes(name))).toEqual([]);
  expect(stored.filter((name) => !sent.has(name))).toEqual([]);

  // SIGTERM stops cleanly; the directory is free again.
  child.kill('SIGTERM');
  expect(await once(child, 'exit')).toEqual([0, null]);
  expect(output()).toContain('service has stopped');
  const db = Database.open(join(house.folder, 'data'));
  expect(db.one('SELECT count(*) AS n, sum(sends) AS sends FROM ledger')).toEqual({ n: stored.length, sends: stored.length });
  expect(db.one(`SELECT count(*) AS n FROM recipient WHERE domain = 'out.example' AND next_attempt_at IS NOT NULL`)).toEqual({
    n: stored.length,
  });
  db.close();
  expect(readdirSync(join(house.folder, 'data/messages/recent')).filter((name) => name.startsWith('unfinished'))).toEqual([]);
  dns.close();
  rmSync(house.folder, { recursive: true });
});

it('kill -9 with a full limit that holds and an outlet that spends its allowance: both hold to the unit, and what waited goes in the end', async () => {
  const [MOST, ALLOWANCE] = [60, 20];
  const town = await openTown();
  const { house, relay } = town;
  await house.provide('shop.example', ['ana']);
  const must = async (method: string, path: string, body: object): Promise<void> =>
    expect((await house.api.call(method, path, body)).status).toBeLessThan(300);
  const limit = (scope: string, amount: number) =>
    [`/limits/${scope}`, { limits: [{ period: 'day', quantity: 'sends', amount }] }] as const;
  const access = { host: RELAY.name, port: 587, user: RELAY.user, password: RELAY.password };
  await must('POST', '/outlets', { name: 'relay', ...access, domains: ['shop.example'], position: 10, whenSpent: 'wait' });
  await must('PUT', ...limit('outlet:relay', ALLOWANCE));
  await must('PUT', ...limit('shop.example', MOST));
  await must('PUT', '/limits/shop.example', { whenFull: 'hold' });
  await house.service.stop();
  const file = join(house.folder, 'tenedor.toml');
  writeFileSync(file, configText(house.folder, house.dnsPort, town.ways));

  const acknowledged = new Set<string>();
  const sent = new Set<string>();
  for (const killAfter of [15, 50, 100]) {
    const { child, port } = await startProgram(file);
    await streams(port('submissions'), killAfter, (number, round) => {
      const to = `m${killAfter}-${number}-${round}@open.example`;
      sent.add(to);
      const text = `From: ana@shop.example\r\nSubject: ${to}\r\n\r\nx\r\n`;
      return { to: [to], text, acknowledged: () => acknowledged.add(to).size };
    });
    child.kill('SIGKILL');
    await once(child, 'exit');
  }

  /** What the database says once nobody has it open. */
  const figures = () => {
    const db = Database.open(join(house.folder, 'data'));
    const number = (sql: string): number => db.one<{ n: number }>(sql)?.n ?? 0;
    const found = {
      recipients: db.all<{ address: string }>('SELECT address FROM recipient').map((one) => one.address),
      held: number(`SELECT count(*) AS n FROM recipient WHERE held = 'limit'`),
      charged: number('SELECT sum(sends) AS n FROM ledger'),
      outlet: number('SELECT sum(sends) AS n FROM outlet_charge'),
      relayed: number(`SELECT count(*) AS n FROM recipient WHERE state = 'relayed'`),
    };
    db.close();
    return found;
  };
  const { recipients, ...killed } = figures();
  expect([...acknowledged].filter((one) => !recipients.includes(one))).toEqual([]);
  expect(recipients.filter((one) => !sent.has(one))).toEqual([]);
  expect(new Set(recipients).size).toBe(recipients.length);
  expect(killed.charged).toBe(MOST);
  expect(killed.held).toBe(recipients.length - MOST);
  expect(killed.outlet).toBe(killed.relayed);
  expect(killed.outlet).toBeLessThanOrEqual(ALLOWANCE);

  // With more room everything goes, each once.
  const { child, port } = await startProgram(file);
  const api = apiAt(`http://127.0.0.1:${port('web')}`, house.token);
  for (const scope of ['outlet:relay', 'shop.example']) expect((await api.call('PUT', ...limit(scope, 1000))).status).toBe(200);
  const open = async (): Promise<number> => (await api.call<{ rows: unknown[] }>('GET', '/queue')).body.rows.length;
  await expect.poll(open).toBe(0);
  child.kill('SIGTERM');
  await once(child, 'exit');
  expect(figures()).toEqual({
    recipients,
    held: 0,
    charged: recipients.length,
    outlet: recipients.length,
    relayed: recipients.length,
  });
  // The relay may have been told of a message again whose answer the crash has cut off.
  expect(relay.taken).toBeGreaterThanOrEqual(recipients.length);
  await town.close();
});

it('a second demo is refused before it touches the first', async () => {
  const server = createServer().listen(0, '127.0.0.1');
  await once(server, 'listening');
  const { port } = server.address() as { port: number };
  await expect(requireFreePorts([port])).rejects.toMatchObject({ exitCode: 3, wrong: expect.stringContaining(`port ${port}`) });
  server.close();
  await once(server, 'close');
  await requireFreePorts([port]);
});

it('a data directory in use, a taken port, a wrong file and a newer database are each one clear error', async () => {
  const house = await openHouse();
  const file = join(house.folder, 'second.toml');
  const run = async (text: string): Promise<{ code: number; stderr: string }> => {
    writeFileSync(file, text);
    const child = spawn(process.execPath, [PROGRAM, 'serve', '--config', file], { stdio: ['ignore', 'ignore', 'pipe'] });
    let stderr = '';
    child.stderr?.on('data', (bytes) => {
      stderr += bytes;
    });
    const [code] = await once(child, 'close');
    return { code: Number(code), stderr };
  };
  const good = configText(house.folder, 53);
  expect(await run(good)).toEqual({
    code: 3,
    stderr: `The data directory ${house.folder}/data is in use by another running Tenedor. Stop the other one, or use another directory.\nNothing was started.\n`,
  });
  const elsewhere = mkdtempSync(join(tmpdir(), 'tenedor-test-'));
  const taken = await run(configText(elsewhere, 53, { port: (service) => (service === 'pop3' ? house.ports.smtp : 0) }));
  expect(taken).toEqual({
    code: 3,
    stderr: `Can’t listen on 127.0.0.1 port ${house.ports.smtp}: another program uses that port.\nNothing was started.\n`,
  });
  expect((await run(good.replace(HOST.name, 'bare'))).stderr).toContain(
    'second.toml, line 3: host.name: expected a fully qualified host name',
  );
  await house.service.stop();
  const sqlite = (await import('better-sqlite3')).default(join(house.folder, 'data/tenedor.db'));
  sqlite.pragma('user_version = 99');
  sqlite.close();
  const newer = await run(good);
  expect(newer.code).toBe(3);
  expect(newer.stderr).toMatch(/^The database in .* has version 99; this Tenedor knows versions up to \d+\./);
  house.dns.close();
  for (const folder of [house.folder, elsewhere]) rmSync(folder, { recursive: true });
});
