import { chmodSync, copyFileSync, existsSync, readdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import SQLite from 'better-sqlite3';
import type { BackupManifest } from '../../core/backup/manifest.ts';
import { Database } from '../database.ts';
import { addEntry } from '../journeys.ts';
import { KeyFile } from '../key-file.ts';
import { makeFolder } from '../make-folder.ts';
import { reasonOf, StoreError } from '../open-data.ts';
import { DATABASE_FILE } from '../read-database.ts';
import { openSealedKey } from './sealed-key.ts';
import { BackupTarget, DATABASE_COPY, syncFolder, TEXT_LIST } from './target.ts';
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
}

export interface Restored {
  name: string;
  manifest: BackupManifest;
  /** Recipients whose message may have left since: they wait until somebody lets them go. */
  held: number;
}

/** Restores a backup into an empty data directory, all or nothing: it is verified first, and only when all is there has the directory its name. Throws StoreError. */
export async function restoreBackup(order: RestoreOrder, onProgress: (text: string) => void = () => {}): Promise<Restored> {
  const target = BackupTarget.open(order.source, null);
  const name = order.name ?? target.list()[0]?.name;
  if (name === undefined) throw new StoreError(`There is no finished backup in ${order.source}.`);
  if (existsSync(order.data) && readdirSync(order.data).some((one) => join(order.data, one) !== order.keyFile))
    throw new StoreError(`The data directory ${order.data} is not empty. Nothing was changed.`);
  onProgress(`Verifying ${name} …`);
  const { manifest, faults } = verifyBackup(target, name, 0);
  if (!manifest || faults.length > 0) throw new StoreError(`The backup ${name} is not whole: ${faults.join(' ')} Nothing was changed.`);
  const place = `${order.data}.restoring`;
  rmSync(place, { recursive: true, force: true });
  makeFolder(place, 0o700);
  try {
    copyFileSync(join(target.of(name), DATABASE_COPY), join(place, DATABASE_FILE));
    chmodSync(join(place, DATABASE_FILE), 0o600);
    const key = keyOf(order, manifest);
    requireKey(join(place, DATABASE_FILE), key, order.keyFile);
    onProgress(`Copying ${manifest.texts.count} message texts …`);
    copyTexts(target, name, place);
    const held = await holdWaiting(place, name, order.now);
    if (key !== null && !existsSync(order.keyFile)) writeKey(key, order, place);
    finish(place, order);
    return { name, manifest, held };
  } catch (error) {
    rmSync(place, { recursive: true, force: true });
    if (error instanceof StoreError) throw error;
    throw new StoreError(`The backup could not be restored: ${reasonOf(error)}. Nothing was changed.`);
  }
}

/** The key file as text: the one in its place, or the one that the backup has sealed; null where there is none. */
function keyOf({ keyFile, passphrase }: RestoreOrder, { key }: BackupManifest): string | null {
  if (existsSync(keyFile)) return readFileSync(keyFile, 'utf8');
  if (passphrase === null) return null;
  if (key === null)
    throw new StoreError('The backup has no sealed key file. Put the key file into its place, and leave the passphrase out.');
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

function copyTexts(target: BackupTarget, name: string, place: string): void {
  const folder = join(place, 'messages');
  makeFolder(join(folder, 'recent'), 0o700);
  const folders = new Set<string>();
  for (const one of listedTexts(join(target.of(name), TEXT_LIST))) {
    if (!one) continue;
    const own = join(folder, one.name.slice(0, 2));
    if (!folders.has(own)) makeFolder(own, 0o700);
    folders.add(own);
    copyFileSync(target.text(one.name), join(own, one.name.slice(2)));
    chmodSync(join(own, one.name.slice(2)), 0o600);
  }
}

/** What waited then may have left since: nobody gets it twice unless somebody lets it go. Returns how many recipients that are. */
async function holdWaiting(place: string, name: string, now: number): Promise<number> {
  const db = Database.open(place);
  try {
    return await db.commit(() => {
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
          data: { recipients: held, reason: `restored from the backup ${name}; what waited may have left since` },
        });
      return held;
    });
  } finally {
    db.close();
  }
}

function writeKey(key: string, { keyFile, data }: RestoreOrder, place: string): void {
  // Inside the data directory, it goes with it.
  const file = keyFile.startsWith(`${data}/`) ? join(place, keyFile.slice(data.length + 1)) : keyFile;
  makeFolder(dirname(file), 0o700);
  writeFileSync(file, key, { mode: 0o600, flag: 'wx' });
}

function finish(place: string, { data, keyFile }: RestoreOrder): void {
  if (existsSync(data)) {
    // Only the key file is there.
    if (existsSync(keyFile) && dirname(keyFile) === data) renameSync(keyFile, join(place, keyFile.slice(data.length + 1)));
    rmSync(data, { recursive: true });
  }
  renameSync(place, data);
  syncFolder(dirname(data));
}
