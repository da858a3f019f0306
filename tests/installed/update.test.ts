import { type ChildProcess, execFileSync, spawn, spawnSync } from 'node:child_process';
import { once } from 'node:events';
import {
  chmodSync,
  chownSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  writeFileSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import SQLite from 'better-sqlite3';
import { afterEach, beforeEach, expect, it } from 'vitest';
import type { Versions } from '../../src/api/update-schemas.ts';
import { StandInDns } from '../../src/standins/dns-server.ts';
import { freePort } from '../../src/standins/free-port.ts';
import { apiAt, configText } from '../support/house.ts';
import { install, packageOf } from '../support/packages.ts';
import { Talk } from '../support/talk.ts';

const isRoot = process.getuid?.() === 0;
/** A user that every Debian has, and that nobody is. */
const USER = 'daemon';
const OLD = '0.9.0';
const NEW = '0.9.1';
let folder: string;
let dns: StandInDns;
let home: string;
let config: string;
let ports: Record<'web' | 'smtp', number>;

beforeEach(async () => {
  folder = mkdtempSync(join(tmpdir(), 'tenedor-update-'));
  chmodSync(folder, 0o755);
  home = join(folder, 'lib/tenedor');
  config = join(folder, 'tenedor.toml');
  install(home, OLD);
  dns = new StandInDns();
  dns.addZone('example');
  const dnsPort = await dns.listen();
  ports = { web: await freePort(), smtp: await freePort() };
  mkdirSync(join(folder, 'data'), { mode: 0o700 });
  const text = configText(folder, dnsPort, {
    port: (service) => ports[service as keyof typeof ports] ?? 0,
    more: `[backup]\ntarget = ${JSON.stringify(join(folder, 'backups'))}\n`,
  });
  writeFileSync(config, isRoot ? `user = "${USER}"\n${text}` : text);
  mkdirSync(join(folder, 'backups'), { mode: 0o700 });
  if (isRoot) for (const one of ['data', 'backups']) chownSync(join(folder, one), userId(), userId());
});
afterEach(() => {
  dns.close();
  spawnSync('pkill', ['-KILL', '-f', `serve --config ${config}`]);
  rmSync(folder, { recursive: true, force: true });
});

const userId = (): number => Number(execFileSync('id', ['-u', USER], { encoding: 'utf8' }));
/** The version that answers; null when none does. */
const answering = async (): Promise<string | null> => {
  try {
    return ((await (await fetch(`http://127.0.0.1:${ports.web}/healthz`)).json()) as { version: string }).version;
  } catch {
    return null;
  }
};

/** Starts the service as somebody would by hand; resolves with the one-time code of the first sign-in. */
async function serve(): Promise<string> {
  const child = spawn(join(home, 'tenedor'), ['serve', '--config', config], { stdio: ['ignore', 'ignore', 'pipe'], detached: true });
  let said = '';
  child.stderr.on('data', (some) => {
    said += some;
  });
  await expect.poll(() => said, { timeout: 20_000 }).toContain('one-time code');
  child.unref();
  return /one-time code (\S+)/.exec(said)?.[1] ?? '';
}

interface Ended {
  code: number | null;
  said: string;
}
function update(words: string[], env: Record<string, string> = {}): { child: ChildProcess; said: () => string; ended: Promise<Ended> } {
  const child = spawn(join(home, 'tenedor'), ['update', ...words, '--config', config], {
    stdio: ['ignore', 'pipe', 'pipe'],
    env: { ...process.env, ...env },
  });
  let said = '';
  for (const stream of [child.stdout, child.stderr])
    stream?.on('data', (some) => {
      said += some;
    });
  const ended = once(child, 'exit').then(([code]) => ({ code: code as number | null, said }));
  return { child, said: () => said, ended };
}
const apply = (file: string, more: string[] = [], env: Record<string, string> = {}) =>
  update(['apply', file, '--watch', '0', '--within', '20', ...more], env);

/** A mailbox with a message in it, and a way to look at it. */
async function fill(code: string): Promise<{ messages: () => Promise<number>; versions: () => Promise<Versions> }> {
  const signIn = await fetch(`http://127.0.0.1:${ports.web}/api/v1/session`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ name: 'operator', code, password: 'a calm harbour at night' }),
  });
  expect(signIn.status).toBeLessThan(300);
  const cookie = (signIn.headers.get('set-cookie') ?? '').split(';')[0] ?? '';
  const { csrfToken } = (await signIn.json()) as { csrfToken: string };
  const headers = { cookie, 'x-tenedor-csrf': csrfToken };
  const api = apiAt(`http://127.0.0.1:${ports.web}`, null);
  for (const [path, body] of [
    ['/plans', { name: 'standard', limits: [] }],
    ['/customers', { name: 'Customer' }],
    ['/domains', { name: 'shop.example', customer: 'Customer' }],
    ['/mailboxes', { address: 'ana@shop.example', password: 'a calm harbour' }],
  ] as const)
    expect((await api.call('POST', path, body, headers)).status).toBeLessThan(300);
  await send('before');
  const get = async <T>(path: string): Promise<T> => (await api.call<T>('GET', path, undefined, headers)).body;
  return {
    messages: async () => (await get<{ messages: number }>('/mailboxes/ana@shop.example')).messages,
    versions: () => get<Versions>('/versions'),
  };
}
async function send(subject: string): Promise<void> {
  const talk = await Talk.to(ports.smtp);
  await talk.say(null);
  await talk.say('EHLO far.example');
  await talk.say('MAIL FROM:<eva@far.example>');
  await talk.say('RCPT TO:<ana@shop.example>');
  await talk.say('DATA');
  expect(await talk.say(`From: eva@far.example\r\nSubject: ${subject}\r\n\r\nx\r\n.`)).toMatch(/^250/);
  talk.end();
}
const databaseVersion = (): number => {
  const db = new SQLite(join(folder, 'data/tenedor.db'), { readonly: true });
  try {
    return db.pragma('user_version', { simple: true }) as number;
  } finally {
    db.close();
  }
};
const versionHere = (): string => (JSON.parse(readFileSync(join(home, 'package.json'), 'utf8')) as { version: string }).version;

it('a package is checked, tried on a copy, applied after a backup, and watched; mail and owners are as they were; what it brought is shown', async () => {
  const { messages, versions } = await fill(await serve());
  const before = databaseVersion();
  const file = packageOf(folder, NEW, { migrates: true });
  const checked = await update(['check', file]).ended;
  expect(checked).toMatchObject({ code: 0, said: expect.stringContaining(`from version ${before} to ${before + 1}`) });
  expect(checked.said).toContain(`News of ${NEW}.`);
  expect([await answering(), databaseVersion()]).toEqual([OLD, before]);

  const { code, said } = await apply(file).ended;
  expect(said).toMatch(/Backup:[\s\S]*is stopped[\s\S]*is saved[\s\S]*is installed[\s\S]*has version[\s\S]*is up, and ran/);
  expect([code, await answering(), databaseVersion()]).toEqual([0, NEW, before + 1]);
  expect(await messages()).toBe(1);
  await send('after');
  expect(await messages()).toBe(2);
  expect(readdirSync(join(folder, 'backups')).filter((name) => /^\d{4}-/.test(name))).toHaveLength(1);
  expect(existsSync(join(folder, 'data.update'))).toBe(false);
  const owner = isRoot ? userId() : process.getuid?.();
  for (const one of ['data', 'backups'])
    for (const path of readdirSync(join(folder, one), { recursive: true, encoding: 'utf8' }))
      expect([path, statSync(join(folder, one, path)).uid]).toEqual([path, owner]);
  const { runs, brought } = await versions();
  expect(runs.map((one) => one.version)).toEqual([NEW, OLD]);
  expect(brought).toEqual([{ version: NEW, date: '2026-11-30', groups: [{ title: 'Added', items: [`News of ${NEW}.`] }] }]);
  // The database is another one now: the version before can’t read it.
  expect(await update(['back']).ended).toMatchObject({ code: 3, said: expect.stringMatching(/can no longer read it.*The backup \d{4}-/) });
  expect(await answering()).toBe(NEW);
});

it('where the new version does not come up, all is as it was: program, database, mail; systemd is asked where it is there', async () => {
  const bin = join(folder, 'bin');
  const asked = join(folder, 'asked');
  mkdirSync(bin);
  const serves = `"serve --config ${config}"`;
  writeFileSync(
    join(bin, 'systemctl'),
    `#!/bin/sh\necho "$*" >> ${asked}\ncase "$1" in\n` +
      `is-active) pgrep -f ${serves} > /dev/null;;\n` +
      `stop) pkill -TERM -f ${serves}; while pgrep -f ${serves} > /dev/null; do sleep 0.1; done;;\n` +
      `start) ${home}/tenedor serve --config ${config} > /dev/null 2>&1 & sleep 3; pgrep -f ${serves} > /dev/null || { echo "Job for tenedor.service failed." >&2; exit 1; };;\n` +
      `esac\n`,
    { mode: 0o755 },
  );
  const { messages } = await fill(await serve());
  const before = databaseVersion();
  const file = packageOf(folder, NEW, { migrates: true, endsAtOnce: true });
  const { code, said } = await apply(file, [], { PATH: `${bin}:${process.env['PATH']}` }).ended;
  expect(said).toMatch(
    /has version[\s\S]*systemctl start says: Job for tenedor.service failed[\s\S]*database is unchanged[\s\S]*Nothing has changed/,
  );
  expect([code, await answering(), versionHere(), databaseVersion()]).toEqual([1, OLD, OLD, before]);
  expect(await messages()).toBe(1);
  expect(existsSync(join(folder, 'data.update'))).toBe(false);
  expect(readFileSync(asked, 'utf8')).toMatch(
    /stop tenedor.service[\s\S]*start tenedor.service[\s\S]*stop tenedor.service[\s\S]*start tenedor.service/,
  );
});

it('where it ends while it is watched, all is as it was; but mail that it has taken by then is never lost by going back', async () => {
  const { messages } = await fill(await serve());
  const before = databaseVersion();
  const end = join(folder, 'end');
  const file = packageOf(folder, NEW, { migrates: true, endsBy: end });
  const failing = async (meanwhile: () => Promise<void>): Promise<Ended> => {
    const run = update(['apply', file, '--watch', '60', '--within', '20']);
    await expect.poll(answering).toBe(NEW);
    await meanwhile();
    writeFileSync(end, '');
    return run.ended;
  };
  expect(await failing(async () => {})).toMatchObject({ code: 1, said: expect.stringMatching(/✕ It stopped/) });
  rmSync(end);
  expect([await answering(), databaseVersion(), await messages()]).toEqual([OLD, before, 1]);
  const lossless = await failing(() => send('in between'));
  expect(lossless).toMatchObject({
    code: 3,
    said: expect.stringContaining('accepted mail before it failed (1 message, changes in 1 folder)'),
  });
  rmSync(end);
  expect([versionHere(), databaseVersion()]).toEqual([NEW, before + 1]);
  spawn(join(home, 'tenedor'), ['serve', '--config', config], { stdio: 'ignore', detached: true }).unref();
  await expect.poll(answering).toBe(NEW);
  expect(await messages()).toBe(2);
});

it('killed at any stage it goes on when it is said again, or back; another one beside it waits', async () => {
  const { messages } = await fill(await serve());
  const before = databaseVersion();
  const file = packageOf(folder, NEW, { migrates: true });
  const marks = ['is stopped', 'is installed', 'has version'];
  for (const mark of marks) {
    const run = apply(file);
    await expect.poll(run.said, { timeout: 15_000, interval: 5 }).toMatch(new RegExp(mark));
    run.child.kill('SIGKILL');
    await run.ended;
  }
  expect(await update(['check', file]).ended).toMatchObject({ code: 3, said: expect.stringContaining('was interrupted when') });
  expect(await apply(packageOf(folder, '0.9.2')).ended).toMatchObject({
    code: 3,
    said: expect.stringContaining(`The interrupted update is to ${NEW}`),
  });
  const back = await update(['back']).ended;
  expect([back.code, await answering(), versionHere(), databaseVersion()]).toEqual([1, OLD, OLD, before]);
  expect(await messages()).toBe(1);

  const run = apply(file);
  await expect.poll(run.said, { timeout: 15_000, interval: 5 }).toContain('is installed');
  expect(await apply(file).ended).toMatchObject({ code: 3, said: expect.stringContaining('Another update is running') });
  run.child.kill('SIGKILL');
  await run.ended;
  expect(await apply(file).ended).toMatchObject({ code: 0, said: expect.stringContaining('Continuing where it was interrupted') });
  expect([await answering(), databaseVersion(), await messages()]).toEqual([NEW, before + 1, 1]);

  // A version with the same tables can be left again, as often as one likes.
  const later = packageOf(folder, '0.9.2', { migrates: true });
  expect(await apply(later).ended).toMatchObject({ code: 0, said: expect.stringContaining('no changes are needed') });
  expect(await answering()).toBe('0.9.2');
  expect(await update(['back', '--watch', '0']).ended).toMatchObject({ code: 0 });
  expect([await answering(), versionHere()]).toEqual([NEW, NEW]);
  expect(await update(['back']).ended).toMatchObject({ code: 3, said: expect.stringContaining('There is no update to roll back') });
});

it('a package that is not whole, not ours, not newer or not the one that was announced changes nothing, and says why', async () => {
  await fill(await serve());
  const whole = packageOf(folder, NEW);
  const refused = async (file: string, why: string, more: string[] = []): Promise<void> => {
    expect(await apply(file, more).ended).toMatchObject({ code: 3, said: expect.stringContaining(why) });
    expect([await answering(), versionHere(), existsSync(join(folder, 'data.update'))]).toEqual([OLD, OLD, false]);
  };
  await refused(join(folder, 'none.tgz'), 'There is no file');
  await refused(whole, 'does not match: its SHA-256', ['--sha256', '0'.repeat(64)]);
  await refused(
    packageOf(folder, '0.9.2', { spoil: (at) => writeFileSync(join(at, 'dist/tenedor.mjs'), '//') }),
    'dist/tenedor.mjs does not match its checksum',
  );
  await refused(
    packageOf(folder, '0.9.2', { spoil: (at) => writeFileSync(join(at, 'dist/more.mjs'), '//') }),
    'an unlisted file: dist/more.mjs',
  );
  await refused(
    packageOf(folder, '0.9.2', { spoil: (at) => rmSync(join(at, 'dist/backup-thread.mjs')) }),
    'dist/backup-thread.mjs does not match its checksum',
  );
  await refused(
    packageOf(folder, '0.9.2', { spoil: (at) => writeFileSync(join(at, 'package.json'), '{"name":"tenedor"}') }),
    'is not a Tenedor package',
  );
  await refused(
    packageOf(folder, '0.9.2', {
      spoil: (at) => writeFileSync(join(at, 'package.json'), '{"name":"tenedor","version":"0.9.2","engines":{"node":">=99"}}'),
    }),
    'needs Node.js >=99',
  );
  await refused(packageOf(folder, '0.9.2', { spoil: (at) => writeFileSync(join(at, 'package.json'), 'null') }), 'is not a Tenedor package');
  for (const [said, spoil] of [
    ['not a file: package/dist/pipe', (at: string) => execFileSync('mkfifo', [join(at, 'dist/pipe')])],
    ['not a file: package/dist/tenedor.mjs', (at: string) => execFileSync('ln', ['-sf', '/dev/zero', join(at, 'dist/tenedor.mjs')])],
    ['not a file: package/CHANGELOG.md', (at: string) => execFileSync('ln', ['-sf', '/etc/hostname', join(at, 'CHANGELOG.md')])],
    ['a set-user-ID file: package/tenedor', (at: string) => chmodSync(join(at, 'tenedor'), 0o4755)],
  ] as const)
    await refused(packageOf(folder, '0.9.2', { spoil }), said);
  // What a package would have npm do runs not at all.
  const about = JSON.stringify({
    name: 'tenedor',
    version: '0.9.2',
    dependencies: {},
    scripts: { preinstall: `touch ${join(folder, 'ran')}` },
  });
  await refused(packageOf(folder, '0.9.2', { spoil: (at) => writeFileSync(join(at, 'package.json'), about) }), '');
  expect(existsSync(join(folder, 'ran'))).toBe(false);
  await refused(packageOf(folder, '0.9.2', { migrates: 'DELETE FROM message;' }), 'would delete stored data: 1 of message');
  await refused('/dev/zero', 'There is no file');
  await refused(packageOf(folder, OLD), `${OLD} is already running`);
  await refused(packageOf(folder, '0.8.9'), 'is older than');
  const torn = join(folder, 'torn.tgz');
  writeFileSync(torn, readFileSync(whole).subarray(0, 100_000));
  await refused(torn, 'can’t be unpacked');
  writeFileSync(torn, '');
  await refused(torn, 'torn.tgz');
  writeFileSync(torn, 'no archive');
  await refused(join(folder, 'torn.tgz'), 'can’t be unpacked');
});
