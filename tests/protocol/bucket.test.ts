import { execFile } from 'node:child_process';
import { createHash } from 'node:crypto';
import { once } from 'node:events';
import { existsSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import { createRequire } from 'node:module';
import { connect, createServer as createTcpServer, type Socket } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, it } from 'vitest';
import type { BackupState, UpkeepRun } from '../../src/api/backup-schemas.ts';
import type { Overview } from '../../src/api/schemas.ts';
import { openBucket } from '../../src/net/bucket.ts';
import { piecesOf } from '../../src/store/backup/database-pieces.ts';
import { fetchBackup, mirrorBackups } from '../../src/store/backup/mirror.ts';
import { removeUnlisted } from '../../src/store/backup/remove-backups.ts';
import { BackupTarget } from '../../src/store/backup/target.ts';
import { verifyBackup } from '../../src/store/backup/verify-backup.ts';
import { writeBackup } from '../../src/store/backup/write-backup.ts';
import { type House, openHouse, PASSWORD } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';
import { PROGRAM } from '../support/program.ts';

/** A server of the S3 protocol that others wrote. */
const Store = createRequire(import.meta.url)('s3rver') as new (
  settings: object,
) => { run(): Promise<{ port: number }>; close(): Promise<void> };

let folder: string;
let store: InstanceType<typeof Store>;
let house: House;
let settings: Parameters<typeof openBucket>[0];
const bucketLines = (port: number): string =>
  `[backup]\nevery_hours = 0\n[backup.bucket]\nendpoint = "http://127.0.0.1:${port}"\nname = "tenedor"\nprefix = "mail"\naccess_key = "S3RVER"\nsecret_key_file = "bucket.key"\n`;

beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), 'tenedor-bucket-'));
  const objects = join(folder, 'objects');
  mkdirSync(objects);
  store = new Store({ port: 0, address: '127.0.0.1', silent: true, directory: objects, configureBuckets: [{ name: 'tenedor' }] });
  const { port } = await store.run();
  house = await openHouse({ more: bucketLines(port) });
  writeFileSync(join(house.folder, 'bucket.key'), 'S3RVER\n');
  settings = {
    ...{ endpoint: `http://127.0.0.1:${port}`, region: 'us-east-1', name: 'tenedor', prefix: 'mail', accessKey: 'S3RVER' },
    secretKeyFile: join(house.folder, 'bucket.key'),
  };
  await house.provide('shop.example', ['ana']);
});
afterAll(async () => {
  await house.close();
  await store.close();
  rmSync(folder, { recursive: true, force: true });
});

async function put(subject: string, size: number): Promise<void> {
  const program = await openProgram(house.ports.imaps, 'ana@shop.example', { password: PASSWORD });
  await program.append('INBOX', `Subject: ${subject}\r\n\r\n${`${'x'.repeat(70)}\r\n`.repeat(size)}`);
  await program.logout();
}
async function backUp(): Promise<UpkeepRun> {
  expect((await house.api.call('POST', '/backups', {})).status).toBe(200);
  await house.service.context.backups.over();
  return (await house.api.call<BackupState>('GET', '/backups/state')).body.last as UpkeepRun;
}
async function keys(below = ''): Promise<string[]> {
  const found: string[] = [];
  for await (const one of openBucket(settings).list(below)) found.push(one.key);
  return found;
}

it('each backup is in the bucket, too, each text once; all of it is restored from there, on an empty machine', async () => {
  await put('one', 5000);
  const first = await backUp();
  expect(first).toMatchObject({
    isGood: true,
    outcome: expect.stringMatching(/The bucket tenedor at http:\S+ has a copy: \d+ objects sent/),
  });
  await put('two', 6000);
  const second = await backUp();
  // The plan keeps one a day.
  expect((await keys()).filter((one) => !/^(texts|pieces)\//.test(one)).sort()).toEqual(
    [...['manifest.json', 'database.list', 'texts.list'].map((file) => `${second.name}/${file}`), 'tenedor-backups.json'].sort(),
  );
  expect(await keys('texts/')).toHaveLength(2);
  // Not one piece more than the backup has, which is what the folder holds.
  const { pieces } = BackupTarget.open(join(house.folder, 'data/backups'), null);
  expect((await keys('pieces/')).sort()).toEqual(
    pieces
      .prefixes()
      .flatMap((prefix) => pieces.within(prefix).map((rest) => `pieces/${prefix}/${rest}`))
      .sort(),
  );
  // The machine is gone: configuration, key file and bucket are what is left.
  const elsewhere = join(folder, 'elsewhere');
  mkdirSync(join(elsewhere, 'data'), { recursive: true });
  writeFileSync(join(elsewhere, 'data/secrets.key'), readFileSync(join(house.folder, 'data/secrets.key')));
  writeFileSync(join(elsewhere, 'bucket.key'), 'S3RVER');
  const config = join(elsewhere, 'tenedor.toml');
  writeFileSync(config, readFileSync(join(house.folder, 'tenedor.toml'), 'utf8').replace(/^data = .*$/m, 'data = "data"'));
  // The store runs in this process, so nothing here may wait for the command.
  const run = (...args: string[]) =>
    new Promise<{ status: number; stdout: string; stderr: string }>((resolve) => {
      const command = [PROGRAM, 'restore', 'bucket', '--config', config, ...args];
      const child = execFile(process.execPath, command, (_error, stdout, stderr) =>
        resolve({ status: child.exitCode ?? -1, stdout, stderr }),
      );
    });
  expect(await run('--check')).toMatchObject({ status: 0, stdout: expect.stringContaining('is whole: 2 messages in 1 mailboxes') });
  expect(await run('--backup', '2020-01-01T00-00-00Z')).toMatchObject({ status: 3, stderr: expect.stringContaining('There is no backup') });
  expect(await run()).toMatchObject({ status: 0, stdout: expect.stringContaining(`${second.name}`) });
  expect(existsSync(join(elsewhere, 'data/tenedor.db'))).toBe(true);
  expect(readdirSync(elsewhere).sort()).toEqual(['bucket.key', 'data', 'tenedor.toml']);
});

it('what the plan takes away in the folder goes in the bucket, a manifest first; what was lost there is sent again', async () => {
  const target = BackupTarget.open(join(house.folder, 'data/backups'), null);
  const bucket = openBucket(settings);
  const [newest] = target.list().map((one) => one.name);
  const data = join(house.folder, 'data');
  const { name: oldest } = await writeBackup({
    ...{ data, target: target.folder, host: 'mail.host.example', version: 'test', at: Date.UTC(2026, 9, 1), perSecond: 0 },
    ...{ keep: { daily: 9, weekly: 0, monthly: 0 }, key: null },
  });
  const [one = ''] = [...piecesOf(target, oldest)].filter((piece) => ![...piecesOf(target, newest ?? '')].includes(piece));
  expect(await mirrorBackups(target, bucket)).toMatchObject({ removed: 0 });
  const [text = ''] = await keys('texts/');
  await bucket.remove([text]);
  // What only went from the folder stays in the bucket: it may be all that is left.
  target.remove(oldest);
  removeUnlisted(target);
  expect(await mirrorBackups(target, bucket)).toMatchObject({ put: 1, removed: 0 });
  expect((await keys()).filter((key) => key.startsWith(oldest))).toHaveLength(3);
  expect(await keys(`pieces/${one.slice(0, 2)}/${one.slice(2)}`)).toHaveLength(1);
  target.noteRemoved([oldest]);
  expect(await mirrorBackups(target, bucket)).toMatchObject({ put: 0, removed: 1 });
  expect((await keys()).filter((key) => key.startsWith(oldest))).toEqual([]);
  expect(await keys(`pieces/${one.slice(0, 2)}/${one.slice(2)}`)).toEqual([]);
  const place = join(folder, 'fetched');
  expect(await fetchBackup(bucket, null, place)).toBe(newest);
  expect(verifyBackup(BackupTarget.open(place, null), newest ?? '', 0).faults).toEqual([]);
  // One that broke off has no manifest, and is none; what was fetched is not fetched again.
  await bucket.remove([`${newest}/manifest.json`]);
  await expect(fetchBackup(bucket, null, join(folder, 'again'))).rejects.toThrow(/There is no finished backup/);
  expect(await mirrorBackups(target, bucket)).toMatchObject({ put: 3 });
});

/** Between here and the store: each of the next connections breaks off after so many octets in either direction. */
async function breaking(): Promise<{ port: number; cuts: number[]; broken: () => number; close(): void }> {
  const cuts: number[] = [];
  let broken = 0;
  const sockets = new Set<Socket>();
  const server = createTcpServer((near) => {
    const far = connect(Number(new URL(settings.endpoint).port), '127.0.0.1');
    let left = cuts.shift() ?? Number.POSITIVE_INFINITY;
    for (const [from, to] of [
      [near, far],
      [far, near],
    ] as const) {
      sockets.add(from);
      from.on('error', () => {});
      from.on('close', () => to.destroy());
      from.on('data', (some) => {
        left -= some.length;
        if (left < 0) {
          broken += 1;
          near.destroy();
          far.destroy();
        } else to.write(some);
      });
    }
  }).listen(0, '127.0.0.1');
  await once(server, 'listening');
  return {
    port: (server.address() as { port: number }).port,
    cuts,
    broken: () => broken,
    close: () => {
      for (const one of sockets) one.destroy();
      server.close();
    },
  };
}

it('a connection that breaks in the middle of an object, small or large, there or back: the rest comes by another one', async () => {
  const proxy = await breaking();
  const bucket = openBucket({ ...settings, prefix: 'breaking', endpoint: `http://127.0.0.1:${proxy.port}` });
  try {
    for (const octets of [300_000, 20_000_000]) {
      const file = join(folder, `object-${octets}`);
      // The first of its kind in each place: what comes twice or not at all is seen.
      const text = Buffer.alloc(octets);
      for (let at = 0; at + 4 <= octets; at += 4) text.writeUInt32LE(at, at);
      writeFileSync(file, text);
      const sha256 = createHash('sha256').update(text).digest('hex');
      proxy.cuts.push(100_000, 200_000, 50_000);
      await bucket.put(`object-${octets}`, file, { size: octets, sha256 });
      const sent = proxy.broken();
      proxy.cuts.push(100_000, 5000, 150_000);
      // Connections that are kept open have been counted already.
      const hash = createHash('sha256');
      const fetching = openBucket({ ...settings, prefix: 'breaking', endpoint: `http://127.0.0.1:${proxy.port}` });
      for await (const piece of (await fetching.get(`object-${octets}`)) ?? []) hash.update(piece);
      expect([octets, hash.digest('hex')]).toEqual([octets, sha256]);
      expect(sent).toBeGreaterThan(0);
      expect(proxy.broken()).toBeGreaterThan(sent);
    }
    // One that breaks off for ever is given up, with a word.
    proxy.cuts.push(...Array(60).fill(1000));
    const hopeless = openBucket({ ...settings, prefix: 'breaking', endpoint: `http://127.0.0.1:${proxy.port}` });
    const fetched = async (): Promise<void> => {
      for await (const _piece of (await hopeless.get('object-300000')) ?? []);
    };
    await expect(fetched()).rejects.toThrow(/The bucket tenedor at \S+ does not do it/);
  } finally {
    proxy.close();
  }
});

it('a bucket of another host, one that is not there, a wrong key and a store that breaks off: the backup is good, and the run says what is wrong', async () => {
  const target = BackupTarget.open(join(house.folder, 'data/backups'), null);
  const other = BackupTarget.open(join(folder, 'other'), 'mail.other.example');
  await expect(mirrorBackups(other, openBucket(settings))).rejects.toThrow(/belong to mail\.host\.example/);
  await expect(mirrorBackups(target, openBucket({ ...settings, name: 'nothing' }))).rejects.toThrow(/NoSuchBucket/);
  expect(() => openBucket({ ...settings, secretKeyFile: '/nowhere' })).toThrow(/secret key/);
  await expect(mirrorBackups(target, openBucket({ ...settings, accessKey: 'SOMEBODY' }))).rejects.toThrow(/does not do it/);
  const broken = createServer((request) => request.socket.destroy()).listen(0, '127.0.0.1');
  await new Promise((resolve) => broken.once('listening', resolve));
  const { port } = broken.address() as { port: number };
  house.service.context.backupSettings.bucket = { name: 'broken', settings: { ...settings, endpoint: `http://127.0.0.1:${port}` } };
  const run = await backUp();
  expect(run).toMatchObject({
    isGood: false,
    outcome: expect.stringMatching(/^A database of .* The copy in the bucket tenedor at .* failed: /),
  });
  expect(target.list().map((one) => one.name)).toContain(run.name);
  const { body } = await house.api.call<Overview>('GET', '/overview');
  expect(body.attention.filter((one) => one.kind === 'backup')).toMatchObject([
    { harm: 'medium', headline: expect.stringMatching(`^The backup ${run.name} has no copy in the bucket: .* failed: `) },
  ]);
  broken.close();
});
