import { copyFileSync, existsSync, mkdirSync, mkdtempSync, readdirSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Writable } from 'node:stream';
import { afterAll, beforeAll, expect, it } from 'vitest';
import type { Backup, BackupState, UpkeepRun } from '../../src/api/backup-schemas.ts';
import { startService } from '../../src/compose/running-service.ts';
import { parseConfig } from '../../src/service/app/config.ts';
import { restoreBackup } from '../../src/store/backup/restore-backup.ts';
import { BackupThread } from '../../src/store/backup/work.ts';
import { configText, type House, openHouse, PASSWORD } from '../support/house.ts';
import { Talk } from '../support/talk.ts';

const folder = mkdtempSync(join(tmpdir(), 'tenedor-backups-'));
const target = join(folder, 'place');
let house: House;
beforeAll(async () => {
  house = await openHouse({ more: `[backup]\ntarget = "${target}"\nmib_per_second = 0` });
  await house.provide('shop.example', ['ana']);
});
afterAll(async () => {
  await house.close();
  rmSync(folder, { recursive: true, force: true });
});

const state = async (): Promise<BackupState> => (await house.api.call<BackupState>('GET', '/backups/state')).body;
async function backUp(): Promise<UpkeepRun> {
  expect((await house.api.call('POST', '/backups', {})).status).toBe(200);
  await house.service.context.backups.over();
  return (await state()).last as UpkeepRun;
}
/** Brings a message that is known by its number; resolves when it is acknowledged. */
async function bring(talk: Talk, number: number, size: number): Promise<void> {
  await talk.say('MAIL FROM:<leo@far.example>');
  await talk.say('RCPT TO:<ana@shop.example>');
  await talk.say('DATA');
  expect(await talk.say(`From: leo@far.example\r\nSubject: number ${number}\r\n\r\n${`${'x'.repeat(70)}\r\n`.repeat(size)}.`)).toMatch(
    /^250/,
  );
}

it('under load: all that was acknowledged before its start is in it, once, and is read by POP3 from what was restored', async () => {
  const acknowledged: number[] = [];
  let isOver = false;
  const load = Array.from({ length: 4 }, async (_one, lane) => {
    const talk = await Talk.to(house.ports.smtp);
    await talk.say(null);
    await talk.say('EHLO mx.far.example');
    for (let number = lane; !isOver; number += 4) {
      // Every fifth is a file at once.
      await bring(talk, number, number % 5 === 0 ? 5000 : 2);
      acknowledged.push(number);
    }
    talk.end();
  });
  await expect.poll(() => acknowledged.length, { timeout: 20_000 }).toBeGreaterThan(60);
  const before = [...acknowledged];
  const run = await backUp();
  const during = acknowledged.length - before.length;
  isOver = true;
  await Promise.all(load);
  expect(run).toMatchObject({ isGood: true, isByHand: true, kind: 'backup' });
  // Mail went on meanwhile.
  expect(during).toBeGreaterThan(0);
  const data = join(folder, 'again', 'data');
  mkdirSync(data, { recursive: true });
  copyFileSync(join(house.folder, 'data/secrets.key'), join(data, 'secrets.key'));
  await restoreBackup({ source: target, name: null, data, keyFile: join(data, 'secrets.key'), passphrase: null, now: Date.now() });
  const config = parseConfig(configText(join(folder, 'again'), house.dnsPort), 'again.toml', join(folder, 'again'));
  const logTo = new Writable({ write: (_octets, _coding, done) => done() });
  const again = await startService(config, { holdChecks: true, logTo: logTo as never });
  const talk = await Talk.to(again.ports[4] as number, { tls: true });
  await talk.pop(null);
  await talk.pop('USER ana@shop.example');
  await talk.pop(`PASS ${PASSWORD}`);
  const count = Number(/^\+OK (\d+)/.exec(await talk.pop('STAT'))?.[1]);
  const found: number[] = [];
  for (let at = 1; at <= count; at += 1) found.push(Number(/Subject: number (\d+)/.exec(await talk.pop(`RETR ${at}`, true))?.[1]));
  talk.end();
  await again.stop();
  expect(new Set(found).size).toBe(found.length);
  expect(before.filter((number) => !found.includes(number))).toEqual([]);
});

it('is listed, proven, and told of; what is wrong with it is seen', async () => {
  const { name } = await backUp();
  const [newest] = await house.api.list<Backup>('/backups');
  expect(newest).toMatchObject({ name, hasKey: false, lost: 0, counts: { domains: 1, mailboxes: 1 } });
  expect((await house.api.call('POST', '/backups/verify', { name })).status).toBe(200);
  // One after the other.
  expect((await house.api.call('POST', '/backups', {})).body.code).toBe('under-way');
  await house.service.context.backups.over();
  expect((await state()).lastVerified).toMatchObject({
    name,
    isGood: true,
    outcome: expect.stringMatching(/^The database opens.* all \d+ texts/),
  });
  writeFileSync(join(target, name ?? '', 'texts.list'), 'x');
  await house.api.call('POST', '/backups/verify', { name });
  await house.service.context.backups.over();
  expect((await state()).lastVerified).toMatchObject({ isGood: false, outcome: expect.stringContaining('The list of texts') });
  const overview = JSON.stringify((await house.api.call('GET', '/overview')).body);
  expect(overview).toContain(`The backup ${name} is damaged`);
  const journal = JSON.stringify((await house.api.call('GET', '/journal')).body);
  for (const event of ['backup-made', 'backup-verified', 'backup-damaged']) expect(journal).toContain(event);
  for (const wrong of [{ name: '../data' }, { name: 'nope' }, { name, target: 'relative' }, { name, target: '/etc' }])
    expect([404, 422]).toContain((await house.api.call('POST', '/backups/verify', wrong)).status);
  for (const wrong of ['relative', '/etc', join(house.folder, 'data')])
    expect((await house.api.call('POST', '/backups', { target: wrong })).status).toBe(422);
});

it('no path of a call leads through a link into what is the service’s own, and a folder that can’t be made ends nothing', async () => {
  const { data } = house.service.context.backupSettings;
  const place = join(house.folder, 'places');
  mkdirSync(join(place, 'mail'), { recursive: true });
  symlinkSync(data, join(place, 'link'));
  symlinkSync(join(data, 'messages'), join(place, 'inner'));
  symlinkSync(join(data, 'secrets.key'), join(place, 'key.eml'));
  writeFileSync(join(place, 'mail/a.eml'), 'Subject: x\r\n\r\nx\r\n');
  symlinkSync(join(place, 'mail'), join(place, 'mail-link'));
  for (const target of ['/proc/x', '/proc/x/y', join(place, 'link'), join(place, 'link/new'), join(place, 'inner/backups')])
    expect([target, (await house.api.call('POST', '/backups', { target })).status]).toEqual([target, 422]);
  const into = 'ana@shop.example';
  for (const path of ['link/secrets.key', 'key.eml', 'link', 'inner', 'mail-link'])
    expect([path, (await house.api.call('POST', '/transfers/import-files', { path: join(place, path), into })).status]).toEqual([
      path,
      422,
    ]);
  for (const path of ['/proc/x', join(place, 'link/out'), join(place, 'inner/out'), join(place, 'mail-link')])
    expect([path, (await house.api.call('POST', '/transfers/export', { what: 'mailbox', name: into, path })).status]).toEqual([path, 422]);
  expect((await house.api.call('GET', '/overview')).status).toBe(200);
});

it('comes by itself when it is due, again after an hour when it failed, and is missed when none succeeds', async () => {
  const { backups, clock, db } = house.service.context;
  await db.commit(() =>
    db.run("UPDATE upkeep_run SET started_at = started_at - 90000000, ended_at = ended_at - 90000000 WHERE kind = 'backup'"),
  );
  expect(await state()).toMatchObject({ isOverdue: false, everyHours: 24 });
  expect((await state()).dueAt).toBeLessThan(clock.now());
  backups.look();
  await expect.poll(async () => (await state()).underWay?.kind ?? 'over').toMatch(/backup|over/);
  await backups.over();
  expect((await state()).last).toMatchObject({ isByHand: false, isGood: true });
  // The place is gone.
  rmSync(target, { recursive: true });
  writeFileSync(target, 'a file');
  await db.commit(() =>
    db.run("UPDATE upkeep_run SET started_at = started_at - 200000000, ended_at = ended_at - 200000000 WHERE kind = 'backup'"),
  );
  expect((await house.api.call('POST', '/backups', {})).body.detail).toContain('can’t be used');
  expect((await state()).isOverdue).toBe(true);
  expect(JSON.stringify((await house.api.call('GET', '/overview')).body)).toContain('The last backup is of');
  // None has ever succeeded, however often it was tried.
  const runs = db.all<{ id: number; good: number }>('SELECT id, is_good AS good FROM upkeep_run');
  await db.commit(() => db.run('UPDATE upkeep_run SET is_good = 0'));
  expect(await state()).toMatchObject({ isOverdue: true, lastGood: null });
  await db.commit(() => runs.map((one) => db.run('UPDATE upkeep_run SET is_good = ? WHERE id = ?', one.good, one.id)));
  rmSync(target);
  expect(await backUp()).toMatchObject({ isGood: true });
  expect((await state()).isOverdue).toBe(false);
});

it('a thread that is killed in the middle leaves nothing that is taken for a backup, and the next goes on', async () => {
  const place = join(folder, 'killed');
  const order = {
    data: join(house.folder, 'data'),
    target: place,
    host: 'mail.host.example',
    version: '0',
    at: Date.now(),
    // So slow that it does not come to its end.
    perSecond: 200_000,
    keep: { daily: 1, weekly: 0, monthly: 0 },
    key: null,
  };
  const slow = new BackupThread({ kind: 'backup', order }, () => {});
  slow.result.catch(() => {});
  await expect.poll(() => existsSync(place) && readdirSync(place).some((one) => one.startsWith('.unfinished-'))).toBe(true);
  await slow.stop();
  await expect(slow.result).rejects.toThrow(/interrupted/);
  expect(readdirSync(place).filter((one) => one.startsWith('2'))).toEqual([]);
  const next = new BackupThread({ kind: 'backup', order: { ...order, perSecond: 0 } }, () => {});
  expect(await next.result).toMatchObject({ kind: 'backup', made: { manifest: { counts: { mailboxes: 1 } } } });
  expect(readdirSync(place).filter((one) => one.startsWith('.'))).toEqual([]);
});

it('what is stored is looked at: a text that is gone or damaged, and what is counted wrong, is found and mended', async () => {
  const { db, texts, backups } = house.service.context;
  const talk = await Talk.to(house.ports.smtp);
  await talk.say(null);
  await talk.say('EHLO mx.far.example');
  for (const number of [9001, 9002, 9003]) await bring(talk, number, 5000);
  talk.end();
  await backUp();
  const look = async (isRepairing: boolean): Promise<UpkeepRun> => {
    expect((await house.api.call('POST', '/integrity', { isRepairing })).status).toBe(200);
    await backups.over();
    return (await state()).lastIntegrity as UpkeepRun;
  };
  expect(await look(false)).toMatchObject({
    isGood: true,
    kind: 'integrity',
    target: null,
    outcome: expect.stringContaining('No problems found.'),
  });
  const large = db.all<{ file: string; size: number }>('SELECT file, size FROM journey WHERE size > 300000 ORDER BY at DESC LIMIT 3');
  const [gone, damaged, lost] = large as [(typeof large)[0], (typeof large)[0], (typeof large)[0]];
  const placeOf = (file: string): string =>
    [join(house.folder, 'data/messages/recent', file), join(house.folder, 'data/messages', file.slice(0, 2), file.slice(2))].find((one) =>
      existsSync(one),
    ) ?? '';
  rmSync(placeOf(gone.file));
  const there = placeOf(damaged.file);
  rmSync(there);
  writeFileSync(there, 'x'.repeat(damaged.size));
  // One that no backup has.
  rmSync(placeOf(lost.file));
  rmSync(join(target, 'texts', lost.file.slice(0, 2), lost.file.slice(2)));
  await db.commit(() => {
    db.run("UPDATE kept_mailbox SET used_bytes = used_bytes + 7, used_messages = 1 WHERE local = 'ana'");
    db.run('UPDATE domain_use SET bytes = 1');
  });
  const found = await look(false);
  expect(found.isGood).toBe(false);
  expect(found.outcome).toMatch(
    /^3 texts are gone or damaged: .*; a backup has 2 of them: tenedor integrity repair\. .*counters are wrong for ana@shop\.example, shop\.example/,
  );
  expect(JSON.stringify((await house.api.call('GET', '/overview')).body)).toContain('Stored data is damaged');
  const mended = await look(true);
  expect(mended.outcome).toMatch(
    /^1 text is gone or damaged: .*Mended: 2 texts were fetched from the backups; usage was recounted for ana@shop\.example, shop\.example\./,
  );
  for (const one of [gone, damaged]) expect((await texts.read(one.file, one.size)).length).toBe(one.size);
  // What is left to mend is told again; the rest is as it was.
  expect((await look(true)).outcome).toMatch(/^1 text is gone or damaged/);
  expect(db.one("SELECT used_messages AS used, (SELECT count(*) FROM message) AS there FROM kept_mailbox WHERE local = 'ana'")).toEqual(
    db.one('SELECT count(*) AS used, count(*) AS there FROM message'),
  );
  // Also the counts of one folder, and a UID that would be given twice.
  const folders = () => db.all("SELECT name, messages, unseen, deleted, bytes, next_uid FROM folder WHERE name = 'INBOX' ORDER BY id");
  const asTheyWere = folders();
  for (const wrong of ['messages = messages + 1', 'unseen = unseen + 1', 'deleted = 3', 'bytes = 1', 'next_uid = 1']) {
    await db.commit(() =>
      db.run(
        `UPDATE folder SET ${wrong} WHERE name = 'INBOX' AND mailbox_id = (SELECT mailbox_id FROM folder f JOIN message m ON m.folder_id = f.id WHERE f.name = 'INBOX' LIMIT 1)`,
      ),
    );
    expect([wrong, (await look(false)).outcome]).toEqual([wrong, expect.stringMatching(/counters are wrong for \S+@shop\.example: /)]);
    await look(true);
    expect([wrong, folders()]).toEqual([wrong, asTheyWere]);
  }
  expect((await house.api.call('POST', '/integrity', { isRepairing: 'yes' })).status).toBe(422);
});
