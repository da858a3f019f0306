import { spawnSync } from 'node:child_process';
import { once } from 'node:events';
import {
  appendFileSync,
  copyFileSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  writeFileSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, beforeEach, expect, it } from 'vitest';
import type { Transfer } from '../../src/api/transfer-schemas.ts';
import { mboxEntry } from '../../src/core/transfer/mbox.ts';
import { PROJECT } from '../../src/project.ts';
import { StandInDns } from '../../src/standins/dns-server.ts';
import { BackupTarget } from '../../src/store/backup/target.ts';
import { verifyBackup } from '../../src/store/backup/verify-backup.ts';
import { writeBackup } from '../../src/store/backup/write-backup.ts';
import { apiAt, configText, openHouse, PASSWORD } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';
import { PROGRAM, startProgram } from '../support/program.ts';

const MANY = 4000;
const AT = Date.UTC(2026, 10, 27, 12);
let folder: string;
beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), 'tenedor-cut-'));
});
afterEach(() => rmSync(folder, { recursive: true, force: true }));

it('killed in the middle of an import, again and again: it goes on, and every message is there once', async () => {
  const house = await openHouse();
  await house.provide('shop.example', ['ana']);
  const file = join(house.folder, 'tenedor.toml');
  const { token } = house;
  await house.service.stop();
  const dns = new StandInDns();
  const text = configText(house.folder, await dns.listen());
  writeFileSync(file, text);
  const mbox = join(folder, 'many.mbox');
  for (let number = 0; number < MANY; number += 1)
    appendFileSync(
      mbox,
      mboxEntry(Buffer.from(`Subject: ${number}\r\n\r\n${number % 50 === 0 ? 'x'.repeat(300_000) : 'x'}\r\n`), '', AT + number * 1000),
    );
  let id = 0;
  let kills = 0;
  for (let state = ''; state !== 'done'; ) {
    const { child, port } = await startProgram(file);
    const api = apiAt(`http://127.0.0.1:${port('web')}`, token);
    const path = id === 0 ? '/transfers/import-files' : `/transfers/${id}/resume`;
    const begun = await api.call<Transfer>('POST', path, id === 0 ? { path: mbox, into: 'ana@shop.example' } : undefined);
    expect(begun.status).toBe(200);
    id = begun.body.id;
    const look = async (): Promise<Transfer> => (await api.call<Transfer>('GET', `/transfers/${id}`)).body;
    await expect.poll(async () => (await look()).taken > 300 || (await look()).state !== 'under-way', { interval: 5 }).toBe(true);
    ({ state } = await look());
    if (kills < 3 && state === 'under-way') {
      kills += 1;
      child.kill('SIGKILL');
      await once(child, 'exit');
      continue;
    }
    await expect.poll(async () => (await look()).state).toBe('done');
    state = 'done';
    const program = await openProgram(port('imaps'), 'ana@shop.example', { password: PASSWORD });
    await program.mailboxOpen('many');
    const subjects: string[] = [];
    for await (const one of program.fetch('1:*', { envelope: true })) subjects.push(one.envelope?.subject ?? '');
    await program.logout();
    expect(subjects.sort((one, other) => Number(one) - Number(other))).toEqual(
      Array.from({ length: MANY }, (_one, number) => String(number)),
    );
    child.kill('SIGTERM');
    await once(child, 'exit');
  }
  expect(kills).toBeGreaterThan(1);
  dns.close();
  await house.close().catch(() => {});
});

/** Runs a thread of the service in a process that may write files of so many KiB only: what a full disk does, whatever the disk. */
function limited(kib: number, thread: string, work: object): { kind: string; reason?: string } {
  const script = `const { Worker } = require('node:worker_threads');
    const worker = new Worker(process.argv[1], { workerData: { given: null, isClosed: new Int32Array(new SharedArrayBuffer(4)) } });
    worker.postMessage({ kind: 'ask', number: 1, question: JSON.parse(process.argv[2]) });
    worker.on('message', (one) => {
      if (one.kind !== 'wish') process.stdout.write(JSON.stringify(one), () => process.exit());
      else if (one.number > 0) worker.postMessage({ kind: 'granted', number: one.number, value: { part: 1, isNew: false } });
    });`;
  // The signal that comes with it (POSIX, SIGXFSZ) is not heeded, so that writing fails as it does on a full disk.
  const { stdout, stderr } = spawnSync(
    'bash',
    [
      '-c',
      `trap '' XFSZ; ulimit -f ${kib}; exec "$@"`,
      'bash',
      process.execPath,
      '-e',
      script,
      join(PROJECT, 'dist', thread),
      JSON.stringify(work),
    ],
    { encoding: 'utf8', timeout: 60_000 },
  );
  expect(stdout, stderr).not.toBe('');
  return JSON.parse(stdout.trim().split('\n').at(-1) ?? '') as { kind: string; reason?: string };
}

it('a disk that is full in the middle of a backup, an export or a restore: it says so, leaves nothing behind, and goes on when there is room', async () => {
  const house = await openHouse({ maxMib: 4 });
  await house.provide('shop.example', ['ana']);
  const program = await openProgram(house.ports.imaps, 'ana@shop.example', { password: PASSWORD });
  for (let number = 0; number < 3; number += 1)
    await program.append('INBOX', `Subject: ${number}\r\n\r\n${`${'x'.repeat(70)}\r\n`.repeat(40_000)}`, [], new Date(AT));
  await program.logout();
  const data = join(house.folder, 'data');
  const target = join(folder, 'backups');
  const backup = {
    data,
    target,
    host: 'mail.host.example',
    version: 'test',
    at: AT,
    perSecond: 0,
    keep: { daily: 2, weekly: 0, monthly: 0 },
    key: null,
  };
  const first = await writeBackup(backup);
  // Another file system, where texts are copied; a second backup has nothing to link.
  const other = join(folder, 'other');
  const failed = limited(100, 'backup-thread.mjs', { kind: 'backup', order: { ...backup, target: other } });
  expect(failed).toMatchObject({ kind: 'fault', isForeseen: true });
  expect(BackupTarget.open(other, null).list()).toEqual([]);
  await writeBackup({ ...backup, target: other });
  expect(verifyBackup(BackupTarget.open(other, null), first.name, 0).faults).toEqual([]);
  // A torn one never takes the place of a good one.
  expect(limited(100, 'backup-thread.mjs', { kind: 'backup', order: { ...backup, at: AT + 60_000 } })).toMatchObject({ kind: 'fault' });
  expect(
    BackupTarget.open(target, null)
      .list()
      .map((one) => one.name),
  ).toEqual([first.name]);

  const out = join(folder, 'out');
  const order = { kind: 'export', what: 'mailbox', name: 'ana@shop.example', path: out, form: 'mbox', isArchive: false, withHashes: false };
  const about = { version: 'test', host: 'mail.host.example', at: AT, zones: {} };
  for (const more of [{}, { form: 'eml' }, { isArchive: true, path: `${out}.tar` }]) {
    const work = { order: { ...order, ...more }, data, mostOctets: 1e8, about, at: null, roots: null };
    expect(limited(1000, 'transfer-thread.mjs', work)).toMatchObject({
      kind: 'fault',
      isForeseen: true,
      reason: expect.stringContaining('The incomplete export was removed.'),
    });
    expect(readdirSync(folder).sort()).toEqual(['backups', 'other']);
  }
  expect(limited(1_000_000, 'transfer-thread.mjs', { order, data, mostOctets: 1e8, about, at: null, roots: null })).toMatchObject({
    kind: 'answer',
  });
  expect(readFileSync(join(out, 'domains/shop.example/mail/ana/INBOX.mbox'), 'utf8').match(/^From /gm)).toHaveLength(3);

  const config = join(folder, 'restored.toml');
  writeFileSync(config, configText(folder, 53).replace(/^data = .*$/m, 'data = "restored"'));
  const restore = (kib: number): { status: number | null; said: string } => {
    const { status, stderr, stdout } = spawnSync(
      'bash',
      ['-c', `trap '' XFSZ; ulimit -f ${kib}; exec "$@"`, 'bash', process.execPath, PROGRAM, 'restore', target, '--config', config],
      { encoding: 'utf8', timeout: 60_000 },
    );
    return { status, said: stdout + stderr };
  };
  mkdirSync(join(folder, 'restored'));
  copyFileSync(join(data, 'secrets.key'), join(folder, 'restored/secrets.key'));
  const full = restore(1000);
  expect(full.said).toContain('Nothing was changed');
  expect(full.status).toBe(3);
  expect(readdirSync(join(folder, 'restored'))).toEqual(['secrets.key']);
  expect(readdirSync(folder).filter((one) => one.includes('restoring'))).toEqual([]);
  expect(restore(1_000_000)).toMatchObject({ status: 0 });
  expect(existsSync(join(folder, 'restored/tenedor.db'))).toBe(true);
  await house.close();
});
