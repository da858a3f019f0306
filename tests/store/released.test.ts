import { execFileSync, spawn, spawnSync } from 'node:child_process';
import { once } from 'node:events';
import { mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import SQLite from 'better-sqlite3';
import { afterEach, beforeEach, expect, it, onTestFinished, vi } from 'vitest';
import type { Transfer } from '../../src/api/transfer-schemas.ts';
import { startService } from '../../src/compose/running-service.ts';
import { compareVersions } from '../../src/core/updates/versions.ts';
import { PROJECT, VERSION } from '../../src/project.ts';
import { addToken } from '../../src/service/access/accounts.ts';
import { parseConfig } from '../../src/service/app/config.ts';
import { findAccount } from '../../src/store/accounts.ts';
import { writeBackup } from '../../src/store/backup/write-backup.ts';
import { MIGRATIONS } from '../../src/store/migrations.ts';
import { apiAt, configText, HOST } from '../support/house.ts';
import { openProgram } from '../support/mail-program.ts';

/** The data of each version that was released, made by that version (scripts/released-data.mjs). */
const RELEASED = join(PROJECT, 'tests/released');
const versions = readdirSync(RELEASED)
  .map((name) => name.replace('.tar.gz', ''))
  .sort(compareVersions);

let folder: string;
beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), 'tenedor-released-'));
});
afterEach(() => rmSync(folder, { recursive: true, force: true }));

interface Expected {
  version: string;
  password: string;
  lists: Record<string, Record<string, unknown>[]>;
  removed: number;
  folders: Record<string, { uidValidity: string; messages: { uid: number; subject: string; flags: string[]; at: number }[] }>;
}

/** When the last of what a database has in its journal was. */
function newestEntryOf(path: string): number {
  const db = new SQLite(path, { readonly: true });
  const { at } = db.prepare('SELECT max(at) AS at FROM journal').get() as { at: number };
  db.close();
  return at;
}

it('each version that the changelog names as released has its data here', () => {
  const named = [...readFileSync(join(PROJECT, 'CHANGELOG.md'), 'utf8').matchAll(/^## \[([\d.]+)\] - \d{4}-\d{2}-\d{2}$/gm)].map(
    ([, one]) => one,
  );
  expect(versions.filter((one) => named.includes(one))).toEqual(named.toReversed());
});

it('a disk that is full in the middle of bringing a database up to date, and a kill at any moment of it, leave it as it was or as it is to be', async () => {
  const [version = ''] = versions;
  execFileSync('tar', ['-xzf', join(RELEASED, `${version}.tar.gz`), '-C', folder, '--no-same-owner']);
  const file = join(folder, 'tenedor.toml');
  writeFileSync(file, configText(folder, 9));
  const path = join(folder, 'data/tenedor.db');
  const state = (): { version: number; check: string; messages: number } => {
    const db = new SQLite(path);
    try {
      return {
        version: db.pragma('user_version', { simple: true }) as number,
        check: db.pragma('integrity_check', { simple: true }) as string,
        messages: (db.prepare('SELECT count(*) AS rows FROM message').get() as { rows: number }).rows,
      };
    } finally {
      db.close();
    }
  };
  const before = state();
  const open = `exec ${process.execPath} ${join(PROJECT, 'dist/tenedor.mjs')} update part open --config ${file}`;
  // A file may not grow beyond so many blocks of 512 octets: the write-ahead log ends in the middle.
  for (const blocks of [1, 9, 70]) {
    const { status, stderr } = spawnSync('sh', ['-c', `ulimit -f ${blocks}; ${open}`], { encoding: 'utf8' });
    expect([status, stderr]).toEqual([
      3,
      expect.stringMatching(/the disk is full.*Free some space|disk I\/O error.*Nothing of it was changed/),
    ]);
    expect(state()).toMatchObject({ check: 'ok', messages: before.messages });
  }
  for (let ms = 90; ms < 390; ms += 30) {
    const child = spawn('sh', ['-c', open], { stdio: 'ignore' });
    // The last ones may be done by then.
    const ended = once(child, 'exit');
    await new Promise((resolve) => setTimeout(resolve, ms));
    child.kill('SIGKILL');
    await ended;
    expect(state()).toMatchObject({ check: 'ok', messages: before.messages });
  }
  expect(spawnSync('sh', ['-c', open]).status).toBe(0);
  expect(state()).toEqual({ version: MIGRATIONS.length, check: 'ok', messages: before.messages });
  expect(before.version).toBeLessThan(MIGRATIONS.length);
});

it.each(versions)(
  'what %s left opens, with all that was in it: lists, mail, passwords, sealed secrets, and a backup of that time',
  async (version) => {
    execFileSync('tar', ['-xzf', join(RELEASED, `${version}.tar.gz`), '-C', folder, '--no-same-owner']);
    const expected = JSON.parse(readFileSync(join(folder, 'expected.json'), 'utf8')) as Expected;
    // It is opened when it was left: later, what waits in the queue would be reported as late, and what was removed gone for good.
    const left = newestEntryOf(join(folder, 'data/tenedor.db'));
    const { now } = Date;
    const later = now() - left - 1000;
    const clock = vi.spyOn(Date, 'now').mockImplementation(() => now() - later);
    onTestFinished(() => clock.mockRestore());
    const file = join(folder, 'tenedor.toml');
    writeFileSync(file, configText(folder, 9, { more: '[backup]\ntarget = "backups"\nevery_hours = 0\n' }));
    const { name: backup } = await writeBackup({
      ...{ data: join(folder, 'data'), target: join(folder, 'backups'), host: HOST.name, version, at: Date.now(), perSecond: 0, key: null },
      keep: { daily: 9, weekly: 0, monthly: 0 },
    });
    const service = await startService(parseConfig(readFileSync(file, 'utf8'), file, folder), { logTo: { write: () => {} } });
    try {
      const { context } = service;
      expect(context.db.version()).toBe(MIGRATIONS.length);
      const { token } = await addToken(context, { accountId: findAccount(context.db, 'operator')?.id ?? 0 }, 'test');
      const at = (name: string): number =>
        service.ports[['smtp', 'submission', 'submissions', 'pop3', 'pop3s', 'imap', 'imaps', 'web'].indexOf(name)] ?? 0;
      const api = apiAt(`http://127.0.0.1:${at('web')}`, token);
      for (const [path, rows] of Object.entries(expected.lists)) {
        const found = (await api.list<Record<string, unknown>>(path)).filter((row) => path !== '/tokens' || row['name'] !== 'test');
        expect([path, found], path).toMatchObject([path, rows]);
        expect([path, found.length]).toEqual([path, rows.length]);
      }
      expect(await api.list('/domains/shop.example/removed-mailboxes')).toHaveLength(expected.removed);
      const program = await openProgram(at('imaps'), 'ana@shop.example', { password: expected.password });
      for (const [path, { uidValidity, messages }] of Object.entries(expected.folders)) {
        const lock = await program.getMailboxLock(path, { readOnly: true });
        const found: Expected['folders'][string]['messages'] = [];
        for await (const one of program.fetch('1:*', { uid: true, envelope: true, flags: true, internalDate: true }))
          found.push({
            ...{ uid: one.uid, subject: one.envelope?.subject ?? '', flags: [...(one.flags ?? [])].sort() },
            at: new Date(one.internalDate ?? 0).getTime(),
          });
        expect({ uidValidity: String((program.mailbox || null)?.uidValidity), messages: found }, path).toEqual({
          uidValidity,
          messages,
        });
        lock.release();
      }
      await program.logout();
      // Out of a backup of that time one mailbox is shown, and brought back.
      const { body: content } = await api.call<{ backup: string; folders: { folder: string; messages: number }[] }>(
        'GET',
        '/backups/content?address=ana@shop.example',
      );
      expect(content.backup).toBe(backup);
      for (const { folder: name, messages } of content.folders)
        expect([name, messages]).toEqual([name, expected.folders[name]?.messages.length]);
      const asked = { whose: 'ana@shop.example', into: 'leo@shop.example', isWhole: true };
      const { body: recovery } = await api.call<Transfer>('POST', '/transfers/recover', asked);
      await context.transfers.over(recovery.id);
      expect((await api.call<Transfer>('GET', `/transfers/${recovery.id}`)).body).toMatchObject({
        state: 'done',
        taken: Object.values(expected.folders).reduce((sum, one) => sum + one.messages.length, 0),
      });
      // What was sealed then is opened now.
      for (const sql of [
        'SELECT private_key AS sealed FROM dkim_key',
        'SELECT secret AS sealed FROM dns_zone',
        'SELECT secret AS sealed FROM webhook',
      ]) {
        const sealed = context.db.all<{ sealed: string }>(sql);
        expect(sealed.length, sql).toBeGreaterThan(0);
        for (const one of sealed) expect(context.keyFile.open(one.sealed), sql).not.toMatch(/^sealed:|^$/);
      }
      const { runs } = (await api.call<{ runs: { version: string }[] }>('GET', '/versions')).body;
      expect(runs[0]?.version).toBe(VERSION);
    } finally {
      await service.stop();
    }
  },
);
