import { spawnSync } from 'node:child_process';
import {
  chmodSync,
  copyFileSync,
  existsSync,
  lchownSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmdirSync,
  rmSync,
  writeFileSync,
} from 'node:fs';
import { dirname, join } from 'node:path';
import SQLite from 'better-sqlite3';
import type { BackupManifest } from '../../core/backup/manifest.ts';
import { Database } from '../database.ts';
import { addEntry } from '../journeys.ts';
import { KeyFile } from '../key-file.ts';
import { addLost } from '../lost-texts.ts';
import { makeFolder } from '../make-folder.ts';
import { reasonOf, StoreError } from '../open-data.ts';
import { DATABASE_FILE } from '../read-database.ts';
import { assembleDatabase } from './database-pieces.ts';
import { openSealedKey } from './sealed-key.ts';
import { BackupTarget, syncPath, TEXT_LIST } from './target.ts';
import { listedTexts } from './text-list.ts';
import { verifyBackup } from './verify-backup.ts';

export interface RestoreOrder {
  source: string;
  /** The newest where none is named. */
  name: string | null;
  /** The data directory: empty, or not there. */
  data: string;
  keyFile: string;
  /** Opens the key that the backup has sealed; null where the key file lies in its place. */
  passphrase: string | null;
  now: number;
  /** Damaged texts that it goes without, by name or the beginning of one; `all` for each that is damaged. */
  leaveOut?: readonly string[];
  /** Whose the files are to be; null where they are of whoever restores. */
  owner?: { uid: number; gid: number } | null;
}

/** The folder within the data directory into which a bucket's backup is fetched. */
export const FETCHED = 'fetched';

export interface Restored {
  name: string;
  manifest: BackupManifest;
  /** Recipients whose message may have left since: they wait until somebody lets them go. */
  held: number;
  /** Texts that it went without. */
  leftOut: number;
}

/** In the data directory while a restore is under way: what lies beside it, but the key file, is the restore's. */
export const RESTORING = 'restoring.json';
/** Where the parts of a restore wait until all are there. */
const WAITING = 'restoring';

/**
 * Restores a backup into an empty data directory: it is verified first. All of it happens within that directory, which may be a file system of its
 * own, and nothing that was there is moved. Until all is there, a mark says so and no service starts; when it breaks off, it is done again from
 * its beginning. Throws StoreError.
 */
export async function restoreBackup(order: RestoreOrder, onProgress: (text: string) => void = () => {}): Promise<Restored> {
  const target = BackupTarget.open(order.source, null);
  const name = order.name ?? target.list()[0]?.name;
  if (name === undefined) {
    const [broken] = target.names();
    const more =
      broken === undefined ? '' : ` ${verifyBackup(target, broken, 0).faults[0]?.replace(/^Its/, `The newest is ${broken}; its`)}`;
    throw new StoreError(`There is no finished backup in ${order.source}.${more}`);
  }
  const mark = join(order.data, RESTORING);
  const isBrokenOff = existsSync(mark);
  const wasThere = existsSync(order.data);
  if (!isBrokenOff && existsSync(order.data) && readdirSync(order.data).some((one) => !isKept(order, one)))
    throw new StoreError(`The data directory ${order.data} is not empty. Nothing was changed.`);
  onProgress(`Verifying ${name} …`);
  const { manifest, faults, damaged, isWholeElse } = verifyBackup(target, name, 0);
  const left = textsLeftOut(order.leaveOut ?? [], damaged);
  if (!manifest || (faults.length > 0 && !(isWholeElse && damaged.every((one) => left.has(one))))) {
    const way = manifest && isWholeElse ? ' To restore it without them, name them with --leave-out, or all.' : '';
    throw new StoreError(`The backup ${name} is damaged: ${faults.join(' ')} Nothing was changed.${way}`);
  }
  const place = join(order.data, WAITING);
  try {
    makeFolder(order.data, 0o700, 0o755);
    if (isBrokenOff) removeRestored(order);
    writeFileSync(mark, `${JSON.stringify({ backup: name, at: order.now })}\n`, { mode: 0o600, flush: true });
    syncPath(order.data);
    makeFolder(place, 0o700);
    assembleDatabase(target, name, join(place, DATABASE_FILE));
    chmodSync(join(place, DATABASE_FILE), 0o600);
    const key = keyOf(order, manifest);
    requireKey(join(place, DATABASE_FILE), key, order.keyFile);
    onProgress(`Copying ${manifest.texts.count} message texts …`);
    copyTexts(target, name, place, left);
    const held = await makeReady(place, name, order.now, left);
    if (key !== null && !existsSync(order.keyFile)) writeKey(key, order);
    finish(place, order);
    return { name, manifest, held, leftOut: left.size };
  } catch (error) {
    removeRestored(order);
    rmSync(mark, { force: true });
    if (!wasThere && existsSync(order.data) && readdirSync(order.data).length === 0) rmdirSync(order.data);
    if (error instanceof StoreError) throw error;
    throw new StoreError(`The backup could not be restored: ${reasonOf(error)}. Nothing was changed.`);
  }
}

/** What may lie in the data directory of a restore: the key file, what a bucket was fetched into, and what every new file system has. */
const isKept = ({ data, keyFile }: RestoreOrder, name: string): boolean =>
  join(data, name) === keyFile || keyFile.startsWith(`${join(data, name)}/`) || name === FETCHED || name === 'lost+found';

/** Takes away what an earlier try has left: all but what was there before it. */
function removeRestored(order: RestoreOrder): void {
  if (!existsSync(order.data)) return;
  for (const one of readdirSync(order.data))
    if (one !== RESTORING && !isKept(order, one)) rmSync(join(order.data, one), { recursive: true, force: true });
}

/** The key file as text: the one in its place, or the one that the backup has sealed; null where there is none. */
function keyOf({ keyFile, passphrase }: RestoreOrder, { key }: BackupManifest): string | null {
  if (existsSync(keyFile)) return readFileSync(keyFile, 'utf8');
  if (passphrase === null) return null;
  if (key === null) throw new StoreError('The backup has no sealed key file. Put the key file in place, and leave out the passphrase.');
  const opened = openSealedKey(key, passphrase);
  if (opened === null) throw new StoreError('The passphrase does not open the sealed key file. Nothing was changed.');
  return opened;
}

/** Keys and passwords in the database are sealed: without the right key file a service could not start. */
function requireKey(database: string, key: string | null, keyFile: string): void {
  const copy = new SQLite(database, { readonly: true });
  try {
    const sealed = KeyFile.sampleIn((sql) => copy.prepare(sql).get() as { text: string } | undefined);
    if (sealed === null) return;
    if (key === null)
      throw new StoreError(
        `The key file is needed to read keys and passwords, and is not in the backup. Put it at ${keyFile}, or give the passphrase if the backup has it sealed.`,
      );
    const file = KeyFile.fromText(key);
    if (!file) throw new StoreError(`The key file ${keyFile} does not hold a key.`);
    // Throws for another one.
    file.open(sealed);
  } finally {
    copy.close();
  }
}

/** As many characters of a text's name mean it. */
const LEAST_NAMED = 8;

/** The damaged texts that are named. Throws StoreError for a name that means none of them. */
function textsLeftOut(named: readonly string[], damaged: readonly string[]): ReadonlySet<string> {
  if (named.includes('all')) return new Set(damaged);
  return new Set(
    named.flatMap((written) => {
      const beginning = written.replace(/…$/, '').toLowerCase();
      const meant = beginning.length < LEAST_NAMED ? [] : damaged.filter((one) => one.startsWith(beginning));
      if (meant.length === 0)
        throw new StoreError(`“${written.slice(0, 80)}” is not a damaged message of this backup. Nothing was changed.`);
      return meant;
    }),
  );
}

function copyTexts(target: BackupTarget, name: string, place: string, left: ReadonlySet<string>): void {
  const folder = join(place, 'messages');
  makeFolder(join(folder, 'recent'), 0o700);
  const folders = new Set<string>();
  for (const one of listedTexts(join(target.of(name), TEXT_LIST))) {
    if (!one || left.has(one.name)) continue;
    const own = join(folder, one.name.slice(0, 2));
    if (!folders.has(own)) makeFolder(own, 0o700);
    folders.add(own);
    copyFileSync(target.texts.of(one.name), join(own, one.name.slice(2)));
    chmodSync(join(own, one.name.slice(2)), 0o600);
  }
}

/**
 * What waited then may have left since: nobody gets it twice unless somebody lets it go. And what mail programs know of messages and folders that came
 * after the backup must not be said of others (RFC 3501 §2.3.1.1, RFC 1939 §7). Returns how many recipients are held.
 */
async function makeReady(place: string, name: string, now: number, left: ReadonlySet<string>): Promise<number> {
  const db = Database.open(place);
  try {
    return await db.commit(() => {
      const base = Math.floor(now / 1000);
      db.run('UPDATE folder SET uid_validity = max(uid_validity, ?) + id', base);
      db.run("UPDATE sqlite_sequence SET seq = max(seq, (SELECT max(uid_validity) FROM folder)) WHERE name = 'folder'");
      db.run("UPDATE sqlite_sequence SET seq = max(seq, ?) WHERE name = 'message'", now);
      for (const file of left) addLost(db, { file, how: 'gone', journeyId: '', at: now });
      const held = db.run(
        "UPDATE recipient SET held = 'hand', held_at = ? WHERE next_attempt_at IS NOT NULL AND held IS NOT 'hand'",
        now,
      ).changes;
      if (held > 0)
        addEntry(db, {
          at: now,
          journeyId: null,
          domain: null,
          event: 'held-by-hand',
          data: { recipients: held, reason: `restored from the backup ${name}; queued mail may have been sent since` },
        });
      return held;
    });
  } finally {
    db.close();
  }
}

function writeKey(key: string, { keyFile }: RestoreOrder): void {
  makeFolder(dirname(keyFile), 0o700, 0o755);
  writeFileSync(keyFile, key, { mode: 0o600, flag: 'wx', flush: true });
  syncPath(dirname(keyFile));
}

/** All is there: it gets its owner, goes to the disk and into its place, and only then the mark goes. */
function finish(place: string, { data, keyFile, owner }: RestoreOrder): void {
  if (owner) {
    for (const path of [place, ...readdirSync(place, { recursive: true, encoding: 'utf8' }).map((one) => join(place, one)), data, keyFile])
      if (existsSync(path)) lchownSync(path, owner.uid, owner.gid);
  }
  flushFileSystem(place);
  for (const one of readdirSync(place)) renameSync(join(place, one), join(data, one));
  rmdirSync(place);
  syncPath(data);
  rmSync(join(data, RESTORING));
  syncPath(data);
}

/** Texts by the hundred thousand are not flushed one by one. */
function flushFileSystem(path: string): void {
  const { status } = spawnSync('sync', ['-f', path]);
  if (status !== 0) spawnSync('sync');
}
