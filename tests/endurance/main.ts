import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { copyFileSync, mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import type { BackupState } from '../../src/api/backup-schemas.ts';
import { startService } from '../../src/compose/running-service.ts';
import { PROJECT } from '../../src/project.ts';
import { addToken } from '../../src/service/access/accounts.ts';
import { parseConfig } from '../../src/service/app/config.ts';
import { NAME_SERVER, StandInDns } from '../../src/standins/dns-server.ts';
import { apiAt } from '../support/house.ts';
import { examine } from './books.ts';
import { Diary, fetchMail, knocker, PASSWORD, type Ports, reader, sender } from './honest.ts';
import { harass } from './hostile.ts';
import { deadResolver, pause, Served, SmallDisk } from './machine.ts';
import { drippingServer, hungServer, openServer } from './outside.ts';
import { Supervisor, Updates } from './updates.ts';

const PORTS: Ports = { smtp: 24_125, submissions: 24_565, pop3s: 24_995, imaps: 24_993, web: 24_126 };
const DISK_MIB = 1500;
const HEAP_MIB = 512;
const HUNG_DOMAINS = 14;
const LIMITS = { 'shop.example': 900, 'club.example': 300 };
const BREAK_EVERY = 40;
const UPDATE_EVERY_S = 41;
/** How long the queue has to settle when it is calm again. */
const SETTLING_MS = 240_000;

if (process.argv[2] === 'hostile') await harass(JSON.parse(process.argv[3] ?? ''));
else process.exit(await endure(Number(process.argv[2] ?? 10)));

function configText(resolvers: number[], dnsPort: number, dial: Record<string, number>, backups: string): string {
  return [
    `data = "data"\n[host]\nname = "mail.host.example"\naddresses = ["192.0.2.25"]\npostmaster = "reader@home.example"\n`,
    `[dns]\nresolvers = ${JSON.stringify(resolvers.map((port) => `127.0.0.1:${port}`))}\ntimeout_ms = 1000\n[mail]\ngreet_after_ms = 0\n[log]\nlevel = "info"\n[backup]\ntarget = ${JSON.stringify(backups)}\n`,
    ...Object.entries(PORTS).map(([service, port]) => `[[listener]]\nservice = "${service}"\naddress = "127.0.0.1"\nport = ${port}\n`),
    `[[dial]]\nto = "${NAME_SERVER.address}:53"\nthrough = "127.0.0.1:${dnsPort}"\n`,
    ...Object.entries(dial).map(([address, port]) => `[[dial]]\nto = "${address}:25"\nthrough = "127.0.0.1:${port}"\n`),
  ].join('\n');
}

/** Makes the domains and mailboxes; returns an operator's token. */
async function provide(text: string, file: string, folder: string): Promise<string> {
  const service = await startService(parseConfig(text, file, folder));
  const { context } = service;
  const accountId = context.db.one<{ id: number }>('SELECT id FROM account')?.id ?? 0;
  const { token } = await addToken(context, { accountId }, 'endurance');
  const api = apiAt(`http://127.0.0.1:${PORTS.web}`, token);
  const must = async (method: string, path: string, body: object): Promise<void> => {
    const { status, body: answer } = await api.call(method, path, body);
    if (status >= 400) throw new Error(`${method} ${path}: ${answer.detail}`);
  };
  await must('POST', '/plans', { name: 'open', limits: [] });
  await must('POST', '/customers', { name: 'Endurance' });
  for (const name of ['shop.example', 'club.example', 'home.example'])
    await must('POST', '/domains', { name, customer: 'Endurance', plan: 'open' });
  for (const address of [
    'ana@shop.example',
    'bo@shop.example',
    'cleo@club.example',
    'dora@home.example',
    'reader@home.example',
    'target@home.example',
  ])
    await must('POST', '/mailboxes', { address, password: PASSWORD });
  for (const [domain, amount] of Object.entries(LIMITS))
    await must('PUT', `/limits/${domain}`, { limits: [{ period: 'hour', quantity: 'sends', amount }] });
  await must('PUT', '/limits/shop.example', { whenFull: 'hold' });
  await service.stop();
  return token;
}

/** Makes a last backup, proves it, and restores it into a directory of its own; what is wrong with that. */
async function backedUpAndRestored(
  api: ReturnType<typeof apiAt>,
  backups: string,
  { text, folder }: { text: string; folder: string },
): Promise<string[]> {
  const run = async (path: string, body: object, of: 'last' | 'lastVerified'): Promise<BackupState['last']> => {
    await api.call('POST', path, body);
    for (;;) {
      const state = (await api.call<BackupState>('GET', '/backups/state')).body;
      if (!state.underWay) return state[of];
      await pause(200);
    }
  };
  // Whatever the kills left half done must not be in its way.
  while ((await api.call<BackupState>('GET', '/backups/state')).body.underWay) await pause(200);
  const made = await run('/backups', { target: backups }, 'last');
  if (!made?.isGood || made.name === null) return [`the last backup is not good: ${made?.outcome}`];
  const proven = await run('/backups/verify', { target: backups, name: made.name }, 'lastVerified');
  if (!proven?.isGood) return [`the last backup is not whole: ${proven?.outcome}`];
  const data = join(backups, 'restored');
  const config = join(backups, 'restored.toml');
  mkdirSync(data, { mode: 0o700 });
  copyFileSync(join(folder, 'data/secrets.key'), join(data, 'secrets.key'));
  writeFileSync(config, text.replace('data = "data"', `data = "${data}"`));
  const child = spawn(process.execPath, [join(PROJECT, 'dist/tenedor.mjs'), 'restore', backups, '--config', config], {
    stdio: ['ignore', 'ignore', 'pipe'],
  });
  let said = '';
  child.stderr.on('data', (octets) => {
    said += octets;
  });
  const [code] = await once(child, 'exit');
  return code === 0 ? [] : [`the restore ended with ${code}: ${said.trim()}`];
}

/** Every fault of the machine and every bad client at once, for so many minutes; then the books are read. Returns the exit code. */
async function endure(minutes: number): Promise<number> {
  if (!(minutes > 0)) {
    console.error('How many minutes? For example: npm run endurance -- 10');
    return 2;
  }
  if (process.getuid?.() !== 0) {
    console.error('The endurance run fills a small disk of its own, and needs root to make one.');
    return 2;
  }
  const folder = join(PROJECT, '.endurance');
  const disk = new SmallDisk(folder, DISK_MIB);
  const dead = await deadResolver();
  const dns = new StandInDns();
  dns.addZone('example');
  const dnsPort = await dns.listen();
  const [open, hung, dripping] = await Promise.all([openServer(BREAK_EVERY), hungServer(), drippingServer()]);
  const outside = { open: '203.0.113.20', hung: '203.0.113.30', dripping: '203.0.113.40' };
  const publish = (name: string, address: string): void => {
    dns.publish({ name, type: 'MX', value: `10 mx.${name}` });
    dns.publish({ name: `mx.${name}`, type: 'A', value: address });
  };
  publish('open.example', outside.open);
  publish('dripping.example', outside.dripping);
  for (let at = 0; at < HUNG_DOMAINS; at += 1) publish(`hung${at}.example`, outside.hung);
  const file = join(folder, 'tenedor.toml');
  // Beside the small disk, as on another one.
  const beside = mkdtempSync(join(tmpdir(), 'tenedor-endurance-'));
  const backups = join(beside, 'backups');
  const dial = { [outside.open]: open.port, [outside.hung]: hung.port, [outside.dripping]: dripping.port };
  const text = configText([dead.port, dnsPort], dnsPort, dial, backups);
  writeFileSync(file, text);
  const token = await provide(text, file, folder);

  const updates = new Updates(beside, file, Math.ceil((minutes * 60) / UPDATE_EVERY_S));
  const served = new Served(join(updates.home, 'dist/tenedor.mjs'), file, HEAP_MIB);
  const supervisor = await Supervisor.open(served, beside, () => disk.free());
  await served.start();
  const hostile = spawn('nice', ['-n', '5', process.execPath, fileURLToPath(import.meta.url), 'hostile', JSON.stringify(PORTS)], {
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  let deeds = '';
  hostile.stdout.on('data', (octets) => {
    deeds += octets;
  });

  const diary = new Diary();
  const over = new AbortController();
  const { signal } = over;
  const to = (name: string, round: number): string[] => {
    const all = [`${name}@open.example`];
    if (round % 3 === 0) all.push('reader@home.example');
    if (round % 7 === 0) all.push(`${name}@hung${round % HUNG_DOMAINS}.example`);
    if (round % 50 === 0) all.push(`${name}@dripping.example`);
    return all;
  };
  const people = [
    ...['ana@shop.example', 'bo@shop.example', 'cleo@club.example', 'dora@home.example'].map((user) =>
      sender(user, PORTS.submissions, served, diary, signal, to),
    ),
    reader('reader@home.example', PORTS.pop3s, served, diary, signal),
    ...knocker(PORTS, served, diary, signal),
  ];

  const api = apiAt(`http://127.0.0.1:${PORTS.web}`, token);
  let backupsAsked = 0;
  let fills = 0;
  let silences = 0;
  const begun = performance.now();
  const seconds = minutes * 60;
  for (let second = 1; second <= seconds; second += 1) {
    await pause(Math.max(0, begun + second * 1000 - performance.now()));
    served.measure();
    if (second % 70 === 20) {
      disk.fill();
      fills += 1;
    }
    if (second % 70 === 32) disk.free();
    if (second % 60 === 40) {
      dns.silent.add('example');
      silences += 1;
    }
    if (second % 60 === 52) dns.silent.delete('example');
    if (second % 31 === 15) served.killAccess();
    if (second % 23 === 10) {
      // One that is under way when the service is killed comes to nothing, and the next is whole.
      api.call('POST', '/backups', { target: backups }).then(
        ({ status }) => {
          backupsAsked += status < 300 ? 1 : 0;
        },
        () => {},
      );
    }
    // Not in step with the others, so that it comes in the middle of each of them.
    if (second % 47 === 0) await supervisor.kill();
    if (second % UPDATE_EVERY_S === 33) updates.begin(supervisor);
    if (second % 30 === 0)
      console.log(
        `${String(second).padStart(4)} s: ${diary.acknowledged.size} acknowledged, ${diary.fetched.size} fetched, ${open.taken.size} left, ${served.kills} kills, ${updates.done} updates, ${fills} full disks, ${served.mostMib} MiB at most, ${diary.wrong.length} wrong`,
      );
  }

  console.log('Calm again; the queue settles …');
  hostile.kill('SIGTERM');
  await once(hostile, 'exit');
  disk.free();
  dns.silent.clear();
  await updates.over();
  over.abort();
  await Promise.all(people);
  const until = performance.now() + SETTLING_MS;
  for (let left = Number.POSITIVE_INFINITY; left > 0 && performance.now() < until; ) {
    await api.call('POST', '/queue/actions', { act: 'retry', destination: 'open.example' });
    await pause(2000);
    const { body } = await api.call<{ recipients: number }>('GET', '/queue?destination=open.example&held=none');
    left = body.recipients;
  }
  while ((await fetchMail('reader@home.example', PORTS.pop3s, diary, 500)) > 0);
  const restored = await backedUpAndRestored(api, backups, { text, folder });
  const stopped = await served.end('SIGTERM');
  const { wrong, figures } = examine(join(folder, 'data'), {
    diary,
    taken: open.taken,
    openDomain: 'open.example',
    home: new Set(['home.example']),
    limits: LIMITS,
  });
  if (stopped.code !== 0) wrong.push(`SIGTERM ended it with ${stopped.code ?? stopped.signal}, not with 0`);
  wrong.push(...restored, ...updates.wrong);
  if (updates.done === 0) wrong.push('no update came to its end');
  supervisor.close();
  rmSync(beside, { recursive: true, force: true });
  for (const one of served.unexpected) wrong.push(`the service ended by itself: ${one.code ?? one.signal}`);
  for (const one of [dead, dns, open, hung, dripping]) one.close();

  const list = (entries: Iterable<readonly [string, number]>, unit = ''): string =>
    [...entries].map(([name, value]) => `  ${name}: ${Math.round(value).toLocaleString('en')}${unit}`).join('\n');
  console.log(
    `\n${minutes} minutes: ${served.kills} times kill -9 of the service and ${served.accessKills} times of what serves IMAP and POP3, ${backupsAsked} backups beside it, ${updates.done} updates (${updates.cutOff} cut off and said again, ${updates.wentBack} went back by themselves), ${fills} full disks, ${silences} times no resolver at all, a heap of ${HEAP_MIB} MiB`,
  );
  if (updates.refused.size > 0) console.log(`Updates that were refused:\n${list(updates.refused)}`);
  console.log(`Most memory in all: ${served.mostMib} MiB`);
  console.log(`Hostile clients:\n${list(Object.entries(JSON.parse(deeds || '{}') as Record<string, number>))}`);
  console.log(
    `Honest clients: ${diary.sent.size} sent, ${diary.acknowledged.size} acknowledged, ${diary.fetched.size} fetched\n${list(diary.refusals)}`,
  );
  const within = (times: readonly number[], share: number): string =>
    `${Math.round([...times].sort((one, other) => one - other)[Math.floor((times.length - 1) * share)] ?? 0).toLocaleString('en')} ms`;
  console.log(
    `Waits at each door:\n${[...diary.waits].map(([door, waits]) => `  ${door}: ${within(waits, 0.5)} in the middle, ${within(waits, 0.99)} in 99 of 100, ${within(waits, 1)} at most`).join('\n')}`,
  );
  console.log(
    `Longest turn of the event loop in half a second: ${within(diary.turns, 0.5)} in the middle, ${within(diary.turns, 0.95)} in 95 of 100, ${within(diary.turns, 1)} at worst`,
  );
  console.log(`In the books:\n${list(Object.entries(figures))}`);
  console.log(`Errors in the log:\n${list(served.errors)}`);
  console.log(
    wrong.length === 0
      ? '\nThe books are exact, and the doors were open.'
      : `\nWRONG:\n${wrong
          .slice(0, 40)
          .map((one) => `  ${one}`)
          .join('\n')}`,
  );
  disk.remove();
  return wrong.length === 0 ? 0 : 1;
}
