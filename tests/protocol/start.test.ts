import { type ChildProcess, spawn } from 'node:child_process';
import { once } from 'node:events';
import {
  chmodSync,
  chownSync,
  cpSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  statSync,
  truncateSync,
  writeFileSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect as connectTls } from 'node:tls';
import { fileURLToPath } from 'node:url';
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { loadCertificate } from '../../src/net/certificate.ts';
import { bring } from '../../src/standins/mail-client.ts';
import { apiAt, configText, openHouse } from '../support/house.ts';

const PROGRAM = fileURLToPath(new URL('../../dist/tenedor.mjs', import.meta.url));
const folder = mkdtempSync(join(tmpdir(), 'tenedor-start-'));
const data = join(folder, 'data');
const whole = join(folder, 'whole');
const file = join(folder, 'tenedor.toml');
let certificate: { certificate: string; key: string };

beforeAll(async () => {
  // A data directory as a service leaves it, with a message in it.
  const house = await openHouse();
  await house.provide('shop.example', ['ana']);
  await bring(
    house.ports.claimed,
    { address: '203.0.113.9', helo: 'mx.far.example' },
    { address: '192.0.2.25' },
    {
      from: 'far@far.example',
      to: ['ana@shop.example'],
      subject: 'Kept',
      body: 'x'.repeat(300_000).replace(/.{70}/g, '$&\r\n'),
    },
  );
  await house.service.stop();
  cpSync(join(house.folder, 'data'), whole, { recursive: true });
  house.dns.close();
  rmSync(house.folder, { recursive: true });
  await loadCertificate(null, folder, 'first.host.example');
  await loadCertificate(null, folder, 'second.host.example');
  certificate = { certificate: join(folder, 'shown.pem'), key: join(folder, 'shown.key') };
});
afterAll(() => rmSync(folder, { recursive: true }));
beforeEach(() => {
  rmSync(data, { recursive: true, force: true });
  cpSync(whole, data, { recursive: true });
  show('first');
  writeFileSync(file, `${configText(folder, 1)}\n[tls]\ncertificate = "${certificate.certificate}"\nkey = "${certificate.key}"\n`);
});

function show(which: 'first' | 'second'): void {
  cpSync(join(folder, 'tls', `${which}.host.example.pem`), certificate.certificate);
  cpSync(join(folder, 'tls', `${which}.host.example.key`), certificate.key);
}

const running = new Set<ChildProcess>();
function run(): ChildProcess {
  const child = spawn(process.execPath, [PROGRAM, 'serve', '--config', file], { stdio: ['ignore', 'pipe', 'pipe'] });
  running.add(child);
  child.once('exit', () => running.delete(child));
  return child;
}
afterEach(() => {
  for (const child of running) child.kill('SIGKILL');
});

/** Runs a command to its end. */
async function runTo(words: string[], env: Record<string, string>): Promise<{ code: number | null; text: string }> {
  const child = spawn(process.execPath, [PROGRAM, ...words], { env: { ...process.env, ...env }, stdio: ['ignore', 'pipe', 'pipe'] });
  let text = '';
  for (const stream of [child.stdout, child.stderr])
    stream.on('data', (bytes) => {
      text += bytes;
    });
  const [code] = (await once(child, 'close')) as [number | null];
  return { code, text };
}

async function ends(): Promise<{ code: number | null; said: string }> {
  const child = run();
  let said = '';
  child.stderr?.on('data', (bytes) => {
    said += bytes;
  });
  const [code] = (await once(child, 'exit')) as [number | null];
  return { code, said };
}

/** Starts the program; resolves when it is up. */
async function up(child: ChildProcess): Promise<{ log: () => string; port: (service: string) => number }> {
  let text = '';
  await new Promise<void>((resolve, reject) => {
    child.stdout?.on('data', (bytes) => {
      text += bytes;
      if (text.includes('service is up')) resolve();
    });
    child.on('exit', () => reject(new Error(text)));
  });
  return { log: () => text, port: (service) => Number(new RegExp(`"${service} 127\\.0\\.0\\.1:(\\d+)"`).exec(text)?.[1]) };
}

function becomesFile(path: string): void {
  rmSync(path, { recursive: true });
  writeFileSync(path, 'x');
}
function becomesFolder(path: string): void {
  rmSync(path);
  mkdirSync(path);
}

describe('what prevents a start is one sentence and code 3, and touches nothing', () => {
  it.each<[string, () => void, RegExp]>([
    ['the data path is a file', () => becomesFile(data), /^The data directory .* can’t be used/],
    [
      'the data path can’t be made',
      () => writeFileSync(file, configText('/dev/null', 1)),
      /^The data directory \/dev\/null\/data can’t be used/,
    ],
    [
      'the data path is where nothing can be made',
      () => writeFileSync(file, configText('/proc/nowhere', 1)),
      /^The data directory \/proc\/nowhere\/data can’t be used/,
    ],
    ['the database is missing beside messages', () => rmSync(join(data, 'tenedor.db')), /tenedor\.db is missing, but .* holds messages/],
    [
      'the database is empty beside messages',
      () => writeFileSync(join(data, 'tenedor.db'), ''),
      /tenedor\.db is empty, but .* holds messages/,
    ],
    [
      'the database is something else',
      () => writeFileSync(join(data, 'tenedor.db'), 'not a database at all. '.repeat(300)),
      /tenedor\.db can’t be used: it is not a database/,
    ],
    ['the database is truncated', () => truncateSync(join(data, 'tenedor.db'), 8192), /tenedor\.db is truncated/],
    ['the database is a folder', () => becomesFolder(join(data, 'tenedor.db')), /tenedor\.db can’t be used: it is not a file/],
    ['the lock is garbage', () => writeFileSync(join(data, 'lock.db'), 'garbage '.repeat(500)), /lock\.db can’t be used: .*delete it/],
    ['the lock is a folder', () => becomesFolder(join(data, 'lock.db')), /lock\.db can’t be used/],
    [
      'the key file is missing',
      () => rmSync(join(data, 'secrets.key')),
      /secrets\.key is missing, and secrets in the database were sealed with it/,
    ],
    ['the key file is a folder', () => becomesFolder(join(data, 'secrets.key')), /secrets\.key can’t be used: it is a directory/],
    ['the key file holds no key', () => writeFileSync(join(data, 'secrets.key'), 'x'), /does not hold a key/],
    [
      'the key file is another',
      () => writeFileSync(join(data, 'secrets.key'), Buffer.alloc(32, 7).toString('base64')),
      /sealed with another key file/,
    ],
    ['the folder of messages is a file', () => becomesFile(join(data, 'messages')), /messages.* can’t be used/],
    ['the certificate is missing', () => rmSync(certificate.certificate), /certificate .* can’t be used/],
    ['the configuration is a folder', () => becomesFolder(file), /configuration file .* can’t be read/],
  ])('%s', async (_what, damage, sentence) => {
    rmSync(file, { recursive: true, force: true });
    writeFileSync(file, `${configText(folder, 1)}\n[tls]\ncertificate = "${certificate.certificate}"\nkey = "${certificate.key}"\n`);
    damage();
    const { code, said } = await ends();
    expect(said.split('\n').filter((line) => line !== '')).toHaveLength(2);
    expect(said).toMatch(sentence);
    expect(said).not.toMatch(/\n\s+at /);
    expect(code).toBe(3);
    rmSync(file, { recursive: true, force: true });
  });

  it('no message is taken away by a start without its database, nor a key made anew', async () => {
    renameSync(join(data, 'tenedor.db'), join(folder, 'away.db'));
    await ends();
    renameSync(join(folder, 'away.db'), join(data, 'tenedor.db'));
    rmSync(join(data, 'secrets.key'));
    await ends();
    expect(existsSync(join(data, 'secrets.key'))).toBe(false);
    cpSync(join(whole, 'secrets.key'), join(data, 'secrets.key'));
    const child = run();
    await up(child);
    child.kill('SIGTERM');
    expect(await once(child, 'exit')).toEqual([0, null]);
  });
});

describe('while it runs', () => {
  it('a signal that comes before it is up ends it cleanly', async () => {
    const child = run();
    // As soon as it has begun to open its data.
    await expect.poll(() => existsSync(join(data, 'tenedor.db-wal')) || child.exitCode !== null, { interval: 2 }).toBe(true);
    child.kill('SIGTERM');
    expect(await once(child, 'exit')).toEqual([0, null]);
  });

  it('neither a reader of the log that goes nor SIGHUP ends it; a renewed certificate is served at once', async () => {
    const child = run();
    const { port } = await up(child);
    child.stderr?.destroy();
    child.stdout?.destroy();
    const subject = (): Promise<string> =>
      new Promise((resolve, reject) => {
        const socket = connectTls({ port: port('submissions'), host: '127.0.0.1', rejectUnauthorized: false }, () => {
          resolve(String(socket.getPeerCertificate().subject.CN));
          socket.destroy();
        });
        socket.on('error', reject);
      });
    expect(await subject()).toBe('first.host.example');
    show('second');
    child.kill('SIGHUP');
    await expect.poll(subject).toBe('second.host.example');
    // One that can't be used changes nothing.
    writeFileSync(certificate.certificate, 'broken');
    child.kill('SIGHUP');
    expect((await fetch(`http://127.0.0.1:${port('web')}/healthz`)).status).toBe(200);
    expect(await subject()).toBe('second.host.example');
    child.kill('SIGTERM');
    expect(await once(child, 'exit')).toEqual([0, null]);
  });

  it('how it stands can be asked on the machine without a sign-in, also when the service is down, and no file comes of it that it can’t open', async () => {
    const client = { TENEDOR_CLIENT: join(folder, 'nobody.json') };
    const ask = (...words: string[]) => runTo([...words, '--config', file], client);
    const child = run();
    await up(child);
    expect(await ask('status')).toMatchObject({ code: 0, text: expect.stringMatching(/mail\.host\.example, running/) });
    child.kill('SIGKILL');
    await once(child, 'exit');
    expect(await ask('status')).toMatchObject({ code: 1, text: expect.stringMatching(/not running[\s\S]*last entry[\s\S]*queue +empty/) });
    const { text } = await ask('backup', 'state', '--json');
    expect(JSON.parse(text)).toMatchObject({ isRunning: false, lastGood: null, underWay: null });
    if (process.getuid?.() === 0) {
      const SOMEBODY = 65_534;
      const names = () => readdirSync(data).map((name) => join(data, name));
      for (const path of [data, ...names()]) chownSync(path, SOMEBODY, SOMEBODY);
      chmodSync(folder, 0o755);
      for (const path of names().filter((one) => /-shm$/.test(one))) rmSync(path);
      expect((await ask('status')).code).toBe(1);
      expect(names().filter((one) => statSync(one).uid !== SOMEBODY)).toEqual([]);
      for (const path of [data, ...names()]) chownSync(path, 0, 0);
    }
    expect(await runTo(['status', '--config', join(folder, 'no.toml')], client)).toMatchObject({
      code: 3,
      text: expect.stringContaining('it does not exist'),
    });
    const again = run();
    await up(again);
    again.kill('SIGTERM');
    expect(await once(again, 'exit')).toEqual([0, null]);
  });

  it('a lost password is replaced by a code that is made on the machine, and every session ends', async () => {
    const child = run();
    const { port } = await up(child);
    const { call } = apiAt(`http://127.0.0.1:${port('web')}`, null);
    const recover = spawn(process.execPath, [PROGRAM, 'recover', '--config', file]);
    let said = '';
    recover.stdout.on('data', (bytes) => {
      said += bytes;
    });
    await once(recover, 'exit');
    const code = /one-time code (\S+)/.exec(said)?.[1];
    const body = { name: 'operator', password: 'a new long password' };
    expect((await call('POST', '/session', { ...body, code: 'wrong-code' })).status).toBe(401);
    expect((await call('POST', '/session', { ...body, code })).status).toBe(200);
    expect((await call('POST', '/session', { ...body, code })).status).toBe(401);
    expect((await call('POST', '/session', { ...body, code: null })).status).toBe(200);
    expect(readFileSync(file, 'utf8')).not.toContain(code);
    child.kill('SIGTERM');
    await once(child, 'exit');
  });
});
