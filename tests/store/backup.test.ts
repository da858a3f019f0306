import {
  copyFileSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  truncateSync,
  writeFileSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, beforeEach, expect, it } from 'vitest';
import { manifestText } from '../../src/core/backup/manifest.ts';
import { acceptMessage } from '../../src/service/acceptance/accept-message.ts';
import { plainRecipient } from '../../src/service/acceptance/planned-recipient.ts';
import { newJourneyId } from '../../src/service/base/secrets.ts';
import { assembleDatabase, piecesOf } from '../../src/store/backup/database-pieces.ts';
import { RESTORING, type RestoreOrder, restoreBackup } from '../../src/store/backup/restore-backup.ts';
import { openSealedKey, sealKey } from '../../src/store/backup/sealed-key.ts';
import { BackupTarget, type SharedFiles } from '../../src/store/backup/target.ts';
import { verifyBackup } from '../../src/store/backup/verify-backup.ts';
import { type BackupOrder, writeBackup } from '../../src/store/backup/write-backup.ts';
import { Database } from '../../src/store/database.ts';
import { addFolder } from '../../src/store/folders.ts';
import { KeyFile } from '../../src/store/key-file.ts';
import { listLost } from '../../src/store/lost-texts.ts';
import { findMailbox } from '../../src/store/mailboxes.ts';
import { MessageFiles } from '../../src/store/message-files.ts';
import { MessageTexts } from '../../src/store/message-texts.ts';
import { deliverMessage } from '../../src/store/messages.ts';
import { type Bare, journeyOf, openBare } from '../support/context.ts';

const NOW = Date.UTC(2026, 10, 27, 12);
const DAY = 24 * 3_600_000;
let folder: string;
let bare: Bare;
let order: BackupOrder;

beforeEach(async () => {
  folder = mkdtempSync(join(tmpdir(), 'tenedor-backup-'));
  bare = await openBare({ folder: join(folder, 'data') });
  order = {
    data: bare.folder,
    target: join(folder, 'backups'),
    host: 'mail.host.example',
    version: '0.1.0',
    at: NOW,
    perSecond: 0,
    keep: { daily: 2, weekly: 0, monthly: 0 },
    key: null,
  };
});
afterEach(async () => {
  bare.context.db.close();
  rmSync(folder, { recursive: true, force: true });
});

/** A message for ana, and one recipient outside; large texts are files at once. */
async function accept(text: string): Promise<string> {
  const { context } = bare;
  const mailboxId = findMailbox(context.db, 'ana', 'shop.example')?.id ?? 0;
  const id = newJourneyId(NOW);
  await acceptMessage(context, {
    journey: { ...journeyOf(id, NOW, 'leo@far.example'), kind: 'received', recipients: 'ana@shop.example', client: '203.0.113.9' },
    content: Buffer.from(text),
    recipients: [
      plainRecipient({ kind: 'mailbox', mailboxId, address: 'ana@shop.example' }),
      plainRecipient({ kind: 'outside', address: 'x@far.example', domain: 'far.example', payer: null }),
    ],
    steps: [],
    folder: 'Inbox',
    payer: null,
  });
  return id;
}
/** With another octet there. */
function withOctet(octets: Buffer, at: number): Buffer {
  octets[at] = ((octets[at] as number) + 1) % 256;
  return octets;
}
const large = (letter: string): string => `From: a@b.example\r\n\r\n${letter.repeat(300_000)}\r\n`;
const target = (): BackupTarget => BackupTarget.open(order.target, null);
/** The names of what backups share. */
const sharedIn = (files: SharedFiles): string[] => files.prefixes().flatMap((prefix) => files.within(prefix).map((rest) => prefix + rest));
const filesIn = (place: string): string[] =>
  readdirSync(place, { recursive: true, encoding: 'utf8', withFileTypes: true })
    .filter((one) => one.isFile())
    .map((one) => one.name);
const restoring = (more: Partial<RestoreOrder> = {}): RestoreOrder => ({
  source: order.target,
  name: null,
  data: join(folder, 'again'),
  keyFile: join(folder, 'again', 'secrets.key'),
  passphrase: null,
  now: NOW,
  ...more,
});

it('a backup is proven, and restored to the same; what waited is held, so that nothing leaves twice', async () => {
  await accept('From: a@b.example\r\n\r\nsmall\r\n');
  await accept(large('x'));
  const { name, manifest, newTexts } = await writeBackup(order);
  expect(manifest).toMatchObject({
    counts: { domains: 1, mailboxes: 1, messages: 2, waiting: 2 },
    texts: { count: 1 },
    lost: [],
    key: null,
  });
  expect([name, newTexts]).toEqual(['2026-11-27T12-00-00Z', 1]);
  expect(verifyBackup(target(), name, 0)).toMatchObject({ faults: [], texts: 1 });
  // The key file never lies beside it.
  expect(filesIn(order.target).some((one) => one.includes('key'))).toBe(false);
  for (const file of readdirSync(order.target, { recursive: true, encoding: 'utf8' }))
    expect(statSync(join(order.target, file)).mode & 0o077, file).toBe(0);
  copyFileSync(join(bare.folder, 'secrets.key'), join(folder, 'secrets.key'));
  const restored = await restoreBackup(restoring({ keyFile: join(folder, 'secrets.key') }));
  expect(restored).toMatchObject({ name, held: 2 });
  const db = Database.open(join(folder, 'again'));
  const texts = new MessageTexts(db, new MessageFiles(join(folder, 'again')), () => {});
  const rows = db.all<{ file: string; size: number }>('SELECT file, size FROM journey ORDER BY size');
  expect((await Promise.all(rows.map((one) => texts.read(one.file, one.size)))).map(String)).toEqual([
    'From: a@b.example\r\n\r\nsmall\r\n',
    large('x'),
  ]);
  expect(db.one("SELECT count(*) AS held FROM recipient WHERE held = 'hand'")).toEqual({ held: 2 });
  await texts.stop();
  db.close();
});

it('only what is new is copied; the plan takes the old ones away, with the texts that only they had', async () => {
  await accept(large('x'));
  await writeBackup(order);
  const { db } = bare.context;
  await accept(large('y'));
  const second = await writeBackup({ ...order, at: NOW + DAY });
  expect([second.manifest.texts.count, second.newTexts, second.removed]).toEqual([2, 1, []]);
  // The first message is gone from everywhere.
  await db.commit(() => {
    db.run('DELETE FROM recipient');
    db.run('DELETE FROM message WHERE id = (SELECT min(id) FROM message)');
  });
  const third = await writeBackup({ ...order, at: NOW + 2 * DAY });
  expect(third.removed).toEqual(['2026-11-27T12-00-00Z']);
  expect(filesIn(join(order.target, 'texts'))).toHaveLength(2);
  const fourth = await writeBackup({ ...order, at: NOW + 3 * DAY });
  expect(fourth.removed).toEqual(['2026-11-28T12-00-00Z']);
  expect(filesIn(join(order.target, 'texts'))).toHaveLength(1);
  for (const { name } of target().list()) expect(verifyBackup(target(), name, 0).faults).toEqual([]);
  // Two in one second are two.
  expect((await writeBackup({ ...order, at: NOW + 3 * DAY })).name).toBe('2026-11-30T12-00-01Z');
});

it('of a database, too, only what is new is kept: what two backups have in common lies there once, until none needs it', async () => {
  const { db } = bare.context;
  // Some 8 MB that stay as they are.
  await db.commit(() => {
    db.run('CREATE TABLE filling (text TEXT)');
    for (let at = 0; at < 8000; at += 1) db.run('INSERT INTO filling VALUES (?)', `${at} ${'x'.repeat(1000)}`);
  });
  const first = await writeBackup(order);
  await accept(large('x'));
  const second = await writeBackup({ ...order, at: NOW + DAY });
  expect(first.newInDatabase).toBe(first.manifest.database.size);
  expect(second.manifest.database.size).toBeGreaterThan(8_000_000);
  expect(second.newInDatabase).toBeLessThan(2_000_000);
  const octets = (): number => sharedIn(target().pieces).reduce((sum, one) => sum + statSync(target().pieces.of(one)).size, 0);
  expect(octets()).toBe(first.newInDatabase + second.newInDatabase);
  // Nothing is written twice within one either.
  expect((await writeBackup({ ...order, at: NOW + DAY })).newInDatabase).toBeLessThan(300_000);
  await db.commit(() => db.run('DROP TABLE filling'));
  for (const day of [2, 3]) await writeBackup({ ...order, at: NOW + day * DAY });
  for (const { name } of target().list()) expect(verifyBackup(target(), name, 0).faults).toEqual([]);
  const needed = target()
    .list()
    .flatMap(({ name }) => [...piecesOf(target(), name)]);
  expect(sharedIn(target().pieces).sort()).toEqual([...new Set(needed)].sort());
  // One that is gone is missed, and brought by the next backup.
  rmSync(target().pieces.of(needed[0] ?? ''));
  const [newest] = target().list();
  expect(verifyBackup(target(), newest?.name ?? '', 0).faults.join()).toMatch(/The database can’t be read: .*ENOENT|no such file/);
  await writeBackup({ ...order, at: NOW + 4 * DAY });
  expect(verifyBackup(target(), target().names()[0] ?? '', 0).faults).toEqual([]);
  // What is put together to be proven goes again.
  expect(readdirSync(order.target).filter((one) => one.startsWith('.'))).toEqual([]);
});

it('a backup of version 0.1.0, whose database lies there whole, is proven, kept and restored', async () => {
  await accept(large('x'));
  const { name, manifest } = await writeBackup(order);
  assembleDatabase(target(), name, join(order.target, name, 'tenedor.db'));
  rmSync(join(order.target, name, 'database.list'));
  rmSync(join(order.target, 'pieces'), { recursive: true });
  writeFileSync(join(order.target, name, 'manifest.json'), JSON.stringify({ ...manifest, format: 1 }));
  const { name: second } = await writeBackup({ ...order, at: NOW + DAY });
  for (const one of [name, second]) expect(verifyBackup(target(), one, 0)).toMatchObject({ faults: [], texts: 1 });
  copyFileSync(join(bare.folder, 'secrets.key'), join(folder, 'secrets.key'));
  expect(await restoreBackup(restoring({ name, keyFile: join(folder, 'secrets.key') }))).toMatchObject({ name, held: 1 });
  // The plan takes it away whole.
  for (const day of [2, 3]) await writeBackup({ ...order, at: NOW + day * DAY });
  expect(existsSync(join(order.target, name))).toBe(false);
});

it('what broke off is taken for nothing, and replaces nothing', async () => {
  await accept(large('x'));
  const good = await writeBackup(order);
  mkdirSync(join(order.target, '.unfinished-2026-11-28T12-00-00Z'));
  writeFileSync(join(order.target, '.unfinished-2026-11-28T12-00-00Z', 'tenedor.db'), 'half');
  mkdirSync(join(order.target, '2026-11-28T12-00-00Z'));
  writeFileSync(join(order.target, '2026-11-28T12-00-00Z', 'manifest.json'), '{"format":1');
  expect(
    target()
      .list()
      .map((one) => one.name),
  ).toEqual([good.name]);
  expect(verifyBackup(target(), '2026-11-28T12-00-00Z', 0).faults).toEqual([
    'Its manifest is missing or does not match its checksum: the backup was interrupted or changed.',
  ]);
  expect(verifyBackup(target(), '2026-11-29T12-00-00Z', 0).faults).toEqual(['There is no such backup.']);
  // The database is gone in the middle: the good one stays, and nothing half is left.
  const data = join(folder, 'empty');
  mkdirSync(data);
  await expect(writeBackup({ ...order, data, at: NOW + DAY })).rejects.toThrow(/The backup failed/);
  expect(readdirSync(order.target).filter((one) => one.startsWith('.'))).toEqual([]);
  expect(
    target()
      .list()
      .map((one) => one.name),
  ).toEqual([good.name]);
});

it('whatever is changed in a backup is found, and it is not restored', async () => {
  await accept('small');
  await accept(large('x'));
  const { name, manifest } = await writeBackup(order);
  const place = join(order.target, name);
  const [piece = ''] = sharedIn(target().pieces);
  const [text = ''] = filesIn(join(order.target, 'texts'));
  const prefix = readdirSync(join(order.target, 'texts')).find((one) => existsSync(join(order.target, 'texts', one, text))) ?? '';
  const changes: [string, RegExp, (octets: Buffer) => Buffer][] = [
    [target().pieces.of(piece), /does not match its checksum/, (octets) => withOctet(octets, 5000)],
    [join(place, 'database.list'), /does not match its checksum/, (octets) => octets.subarray(0, octets.indexOf('\n') + 1)],
    [join(place, 'database.list'), /The list of pieces of the database of \S+ is damaged/, (octets) => octets.subarray(0, -1)],
    [join(place, 'texts.list'), /The list of texts does not match its checksum/, (octets) => octets.subarray(0, -1)],
    [join(order.target, 'texts', prefix, text), /1 text is damaged/, (octets) => withOctet(octets, 100)],
    [join(order.target, 'texts', prefix, text), /1 text is missing or truncated/, (octets) => octets.subarray(0, 10)],
    [
      join(place, 'manifest.json'),
      /It holds 2 messages, and should hold 1/,
      () => Buffer.from(manifestText({ ...manifest, counts: { ...manifest.counts, messages: 1 } })),
    ],
    [
      join(place, 'manifest.json'),
      /has version 9999/,
      () => Buffer.from(manifestText({ ...manifest, database: { ...manifest.database, version: 9999 } })),
    ],
  ];
  changes.push([
    join(place, 'manifest.json'),
    /does not match its checksum/,
    (octets) =>
      Buffer.from(
        String(octets)
          .replace('"lost": []', '"lost":  []')
          .replace(/"at": \d/, '"at": 2'),
      ),
  ]);
  for (const [file, fault, change] of changes) {
    const before = readFileSync(file);
    rmSync(file);
    writeFileSync(file, change(Buffer.from(before)));
    expect(verifyBackup(target(), name, 0).faults.join(' ')).toMatch(fault);
    await expect(restoreBackup(restoring())).rejects.toThrow(
      /is damaged: .*Nothing was changed|no finished backup.*does not match its checksum/,
    );
    expect(existsSync(join(folder, 'again'))).toBe(false);
    rmSync(file);
    writeFileSync(file, before);
  }
  expect(verifyBackup(target(), name, 0).faults).toEqual([]);
});

it('a restore goes without damaged texts that are named, and only without those; what is gone is known as lost', async () => {
  await accept(large('x'));
  await accept(large('y'));
  await accept(large('z'));
  const { name } = await writeBackup(order);
  const names = sharedIn(target().texts);
  const [one = '', two = '', whole = ''] = names;
  copyFileSync(join(bare.folder, 'secrets.key'), join(folder, 'secrets.key'));
  rmSync(target().texts.of(one));
  const octets = withOctet(Buffer.from(readFileSync(target().texts.of(two))), 5);
  rmSync(target().texts.of(two));
  writeFileSync(target().texts.of(two), octets);
  await expect(restoreBackup(restoring())).rejects.toThrow(/1 text is missing.*1 text is damaged.*--leave-out, or all/);
  for (const leaveOut of [[one], [two.slice(0, 12)], ['']])
    await expect(restoreBackup(restoring({ leaveOut }))).rejects.toThrow(/is damaged|is not a damaged message/);
  for (const leaveOut of [[one, two, whole], ['zz'], [one.slice(0, 3)]])
    await expect(restoreBackup(restoring({ leaveOut }))).rejects.toThrow(/is not a damaged message of this backup/);
  expect(existsSync(join(folder, 'again'))).toBe(false);
  expect((await restoreBackup(restoring({ keyFile: join(folder, 'secrets.key'), leaveOut: [`${one.slice(0, 12)}…`, two] }))).leftOut).toBe(
    2,
  );
  const db = Database.open(join(folder, 'again'));
  expect(
    listLost(db, 9)
      .map((lost) => lost.file)
      .sort(),
  ).toEqual([one, two].sort());
  db.close();
  rmSync(join(folder, 'again'), { recursive: true });
  expect((await restoreBackup(restoring({ keyFile: join(folder, 'secrets.key'), leaveOut: ['all'] }))).leftOut).toBe(2);
  // What is wrong with more than texts can't be left out.
  writeFileSync(join(order.target, name, 'texts.list'), 'damaged');
  rmSync(join(folder, 'again'), { recursive: true });
  await expect(restoreBackup(restoring({ leaveOut: ['all'] }))).rejects.toThrow(
    /is damaged.*does not match its checksum.*Nothing was changed\.$/,
  );
});

it('a text that is gone is told, and the rest is backed up', async () => {
  await accept(large('x'));
  const id = await accept(large('y'));
  const { file } = bare.context.db.one<{ file: string }>('SELECT file FROM journey WHERE id = ?', id) ?? { file: '' };
  for (const place of [join('recent', file), join(file.slice(0, 2), file.slice(2))])
    rmSync(join(bare.folder, 'messages', place), { force: true });
  const { manifest, name } = await writeBackup(order);
  expect(manifest).toMatchObject({ lost: [file], texts: { count: 1 } });
  expect(verifyBackup(target(), name, 0).faults).toEqual([]);
});

it('texts of a backup whose manifest was changed stay, and a damaged list keeps all of them', async () => {
  const texts = () => filesIn(join(order.target, 'texts'));
  await accept(large('x'));
  const first = await writeBackup(order);
  const manifest = join(order.target, first.name, 'manifest.json');
  writeFileSync(manifest, readFileSync(manifest, 'utf8').replace('"messages": 1', '"messages": 0'));
  // Those of the days after: nobody needs the text any more, and the plan keeps two days.
  const { db } = bare.context;
  await db.commit(() => {
    for (const table of ['recipient', 'message', 'journey']) db.run(`DELETE FROM ${table}`);
  });
  for (let day = 1; day <= 4; day += 1) await writeBackup({ ...order, at: NOW + day * DAY });
  expect(target().list()).toHaveLength(2);
  expect(texts()).toHaveLength(1);
  writeFileSync(join(order.target, first.name, 'texts.list'), 'damaged');
  expect((await writeBackup({ ...order, at: NOW + 5 * DAY })).removed).toHaveLength(1);
  expect(texts()).toHaveLength(1);
});

it('without its key file nothing sealed is restored; a passphrase brings it back', async () => {
  const { db, keyFile } = bare.context;
  await db.commit(() => db.run("INSERT INTO witness (id, name, code, added_at) VALUES (1, 'x.example', ?, 0)", keyFile.seal('secret')));
  const key = readFileSync(join(bare.folder, 'secrets.key'), 'utf8');
  await writeBackup(order);
  await expect(restoreBackup(restoring())).rejects.toThrow(/The key file is needed/);
  await expect(restoreBackup(restoring({ passphrase: 'x' }))).rejects.toThrow(/has no sealed key file/);
  writeFileSync(join(folder, 'other.key'), `${Buffer.alloc(32).toString('base64')}\n`);
  await expect(restoreBackup(restoring({ keyFile: join(folder, 'other.key') }))).rejects.toThrow(/another key file/);
  await writeBackup({ ...order, at: NOW + DAY, key: sealKey(key, 'a calm harbour') });
  await expect(restoreBackup(restoring({ passphrase: 'a wild harbour' }))).rejects.toThrow(/does not open/);
  expect(existsSync(join(folder, 'again'))).toBe(false);
  await restoreBackup(restoring({ passphrase: 'a calm harbour' }));
  expect(readFileSync(join(folder, 'again', 'secrets.key'), 'utf8')).toBe(key);
  expect(statSync(join(folder, 'again', 'secrets.key')).mode & 0o077).toBe(0);
  const again = Database.open(join(folder, 'again'));
  expect(KeyFile.open(join(folder, 'again', 'secrets.key')).open(again.one<{ code: string }>('SELECT code FROM witness')?.code ?? '')).toBe(
    'secret',
  );
  again.close();
  expect(openSealedKey(sealKey(key, ''), '')).toBe(key);
});

it('a place that holds something else, or belongs to another host, is refused', async () => {
  await writeBackup(order);
  await expect(writeBackup({ ...order, host: 'other.host.example' })).rejects.toThrow(/belong to mail.host.example/);
  await expect(writeBackup({ ...order, target: bare.folder })).rejects.toThrow(/holds something else/);
  await expect(writeBackup({ ...order, target: join(bare.folder, 'tenedor.db') })).rejects.toThrow(/can’t be used/);
  expect(() => BackupTarget.open(folder, null)).toThrow(/There are no backups in/);
  expect(() => target().of('../data')).toThrow(/not the name of a backup/);
  mkdirSync(join(folder, 'again'));
  writeFileSync(join(folder, 'again', 'note.txt'), 'mine');
  await expect(restoreBackup(restoring())).rejects.toThrow(/is not empty/);
  truncateSync(join(order.target, 'tenedor-backups.json'), 3);
  expect(() => target()).toThrow(/can’t be read/);
});

it('a restore that breaks off anywhere leaves the key where it is and a mark that no service starts on; run again, it is whole', async () => {
  await accept(large('x'));
  await writeBackup(order);
  const data = join(folder, 'again');
  const keyFile = join(data, 'secrets.key');
  const key = readFileSync(join(bare.folder, 'secrets.key'));
  // What a kill leaves behind: before anything is copied, with half of it, and between the last renames.
  for (const leave of [
    () => {},
    () => mkdirSync(join(data, 'restoring/messages'), { recursive: true }),
    () => {
      mkdirSync(join(data, 'restoring'));
      mkdirSync(join(data, 'messages/recent'), { recursive: true });
      writeFileSync(join(data, 'tenedor.db'), 'half');
    },
  ]) {
    rmSync(data, { recursive: true, force: true });
    mkdirSync(data);
    writeFileSync(keyFile, key);
    writeFileSync(join(data, RESTORING), '{}');
    leave();
    expect(() => Database.open(data)).toThrow(/A restore into .* was not finished\. Run it again/);
    await restoreBackup(restoring());
    expect(readFileSync(keyFile).equals(key)).toBe(true);
    expect(readdirSync(data).sort()).toEqual(['lock.db', 'messages', 'secrets.key', 'tenedor.db']);
    Database.open(data).close();
  }
});

it('a restore needs nothing beside the data directory, and ends with the owner that it is told', async () => {
  await accept(large('x'));
  await writeBackup(order);
  const data = join(folder, 'again');
  mkdirSync(join(data, 'lost+found'), { recursive: true });
  copyFileSync(join(bare.folder, 'secrets.key'), join(data, 'secrets.key'));
  const before = readdirSync(folder).sort();
  const owner = process.getuid?.() === 0 ? { uid: 12_345, gid: 12_346 } : { uid: process.getuid?.() ?? 0, gid: process.getgid?.() ?? 0 };
  await restoreBackup(restoring({ owner }));
  expect(readdirSync(folder).sort()).toEqual(before);
  for (const one of [
    '.',
    'secrets.key',
    'tenedor.db',
    ...readdirSync(join(data, 'messages'), { recursive: true, encoding: 'utf8' }).map((name) => `messages/${name}`),
  ])
    expect([one, statSync(join(data, one)).uid, statSync(join(data, one)).gid]).toEqual([one, owner.uid, owner.gid]);
});

it('after a restore no number means another message or folder than before: UIDVALIDITY, UIDL and folder numbers', async () => {
  await accept('From: a@b.example\r\n\r\nkept\r\n');
  await writeBackup(order);
  // What comes after the backup is seen by mail programs, and lost.
  await accept('From: a@b.example\r\n\r\nlost\r\n');
  const numbers = (db: Database) => ({
    validity: db.one<{ at: number }>("SELECT uid_validity AS at FROM folder WHERE name = 'INBOX'")?.at ?? 0,
    folders: db.all<{ id: number }>('SELECT id FROM folder').map((one) => one.id),
    messages: db.all<{ id: number }>('SELECT id FROM message').map((one) => one.id),
    validities: db.all<{ at: number }>('SELECT uid_validity AS at FROM folder').map((one) => one.at),
  });
  const seen = numbers(bare.context.db);
  copyFileSync(join(bare.folder, 'secrets.key'), join(folder, 'secrets.key'));
  await restoreBackup(restoring({ keyFile: join(folder, 'secrets.key') }));
  const db = Database.open(join(folder, 'again'));
  const now = numbers(db);
  expect(now.validity).toBeGreaterThan(Math.max(...seen.validities));
  expect(new Set(now.validities).size).toBe(now.validities.length);
  expect(Math.max(...now.validities)).toBeLessThan(2 ** 32);
  const mailboxId = findMailbox(db, 'ana', 'shop.example')?.id ?? 0;
  const folderId = await db.commit(() => addFolder(db, mailboxId, { name: 'New', specialUse: null, keepDays: null }));
  expect(folderId).toBeGreaterThan(Math.max(...seen.folders, ...now.validities));
  await db.commit(() =>
    deliverMessage(db, mailboxId, 'Inbox', {
      ...{ flags: 0, keywords: '', internalDate: 0, savedAt: 0, size: 1 },
      ...{ prefix: '', file: 'x', outlineId: null, journeyId: null },
    }),
  );
  expect(Math.max(...numbers(db).messages)).toBeGreaterThan(Math.max(...seen.messages) + 1_000_000);
  db.close();
});

it('a text that is damaged at equal size in the store is written anew within some backups', async () => {
  await accept(large('x'));
  const { name } = await writeBackup(order);
  const [prefix = ''] = target().texts.prefixes();
  const [rest = ''] = target().texts.within(prefix);
  const file = target().texts.of(prefix + rest);
  const octets = withOctet(Buffer.from(readFileSync(file)), 5);
  rmSync(file);
  writeFileSync(file, octets);
  expect(verifyBackup(target(), name, 0).faults).not.toEqual([]);
  let last = name;
  for (let day = 1; day <= 8; day += 1) last = (await writeBackup({ ...order, at: NOW + day * DAY })).name;
  expect(verifyBackup(target(), last, 0).faults).toEqual([]);
});
