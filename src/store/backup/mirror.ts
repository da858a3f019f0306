import { createWriteStream, existsSync, statSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { pipeline } from 'node:stream/promises';
import { readManifest, timeOfBackup } from '../../core/backup/manifest.ts';
import { type ObjectStore, ObjectStoreError } from '../../core/backup/object-store.ts';
import { Gate } from '../../core/gate.ts';
import { makeFolder } from '../make-folder.ts';
import { digestOf } from './digests.ts';
import { type BackupTarget, DATABASE_COPY, MANIFEST, MARK, PIECE_LIST, type SharedFiles, TEXT_LIST } from './target.ts';
import { listedTexts } from './text-list.ts';

export interface Mirrored {
  /** Objects that were not there, and their octets. */
  put: number;
  octets: number;
  removed: number;
}

/** Where a backup lists what it shares. */
const LISTS = [
  { kind: 'pieces', file: PIECE_LIST },
  { kind: 'texts', file: TEXT_LIST },
] as const;
/** The database of a backup: of which pieces it is made, or itself, as version 0.1.0 wrote it. */
const DATABASE_FILES = [PIECE_LIST, DATABASE_COPY];
const keyOf = (kind: SharedFiles['kind'], name: string): string => `${kind}/${name.slice(0, 2)}/${name.slice(2)}`;

/** Objects on their way at the same time. */
const AT_ONCE = 8;

/**
 * Makes a bucket hold what a folder of backups holds: texts first, then each backup with its manifest last, then what retention took away goes, a backup's
 * manifest first. So what broke off in between is never taken for a backup, and the next time goes on from there. What is there by name and size is not sent again.
 */
export async function mirrorBackups(
  target: BackupTarget,
  store: ObjectStore,
  onProgress: (done: number, total: number) => void = () => {},
): Promise<Mirrored> {
  const done: Mirrored = { put: 0, octets: 0, removed: 0 };
  const gate = new Gate(AT_ONCE);
  const send = async (key: string, file: string, sha256?: string): Promise<void> => {
    const what = sha256 === undefined ? digestOf(file) : { size: statSync(file).size, sha256 };
    await store.put(key, file, what);
    done.put += 1;
    done.octets += what.size;
  };
  await requireOurs(target, store, send);
  const backups = target.list();
  const folders = [target.texts, target.pieces].flatMap((files) => files.prefixes().map((prefix) => ({ files, prefix })));
  for (const [at, { files, prefix }] of folders.entries()) {
    const there = new Map<string, number>();
    for await (const { key, size } of store.list(`${files.kind}/${prefix}/`)) there.set(key.slice(key.lastIndexOf('/') + 1), size);
    await Promise.all(
      files.within(prefix).map(async (rest) => {
        const file = files.of(prefix + rest);
        if (there.get(rest) !== statSync(file).size) await gate.run(() => send(keyOf(files.kind, prefix + rest), file, prefix + rest));
      }),
    );
    onProgress(at + 1, folders.length);
  }
  const known = await backupsIn(store);
  for (const { name } of backups)
    if (!known.has(name)) {
      for (const file of [...DATABASE_FILES, TEXT_LIST, MANIFEST]) {
        const path = join(target.of(name), file);
        if (existsSync(path)) await send(`${name}/${file}`, path);
      }
      known.add(name);
    }
  done.removed = await follow(target, store, known);
  return done;
}

/** Backups that go from a bucket in one run: what retention has decided is never many. */
const MOST_REMOVED = 100;

/**
 * Takes away from the bucket what retention took away here, by name, and the texts that only those had. Never anything because it is not here: a folder
 * may have been lost, and the bucket be all that is left. Returns how many backups went.
 */
async function follow(target: BackupTarget, store: ObjectStore, known: Set<string>): Promise<number> {
  const decided = target.removedNames().slice(0, MOST_REMOVED);
  const here = new Set(target.list().map((one) => one.name));
  const going = decided.filter((name) => !here.has(name));
  const candidates = new Set<string>();
  for (const name of going) for (const key of await sharedIn(store, name)) candidates.add(key);
  for (const name of going) await store.remove([`${name}/${MANIFEST}`]);
  const gone = new Set(going);
  for (const name of known) {
    if (gone.has(name)) continue;
    for (const key of here.has(name) ? sharedOf(target, name) : await sharedIn(store, name, true)) candidates.delete(key);
  }
  await store.remove([...candidates]);
  await store.remove(going.flatMap((name) => [...DATABASE_FILES, TEXT_LIST].map((file) => `${name}/${file}`)));
  target.forgetRemoved(decided);
  return going.filter((name) => known.has(name)).length;
}

/** The finished backups of a bucket. */
async function backupsIn(store: ObjectStore): Promise<Set<string>> {
  const known = new Set<string>();
  for await (const { key } of store.list('')) {
    const [name = '', file] = key.split('/');
    if (file === MANIFEST && timeOfBackup(name) !== null) known.add(name);
    // Texts come after the backups, whose names begin with a digit.
    if (known.size > 10_000 || name > 'a') break;
  }
  return known;
}

/** The keys of what a backup shares with others: texts, and pieces of its database. */
function* sharedOf(target: BackupTarget, name: string): Generator<string> {
  for (const { kind, file } of LISTS) {
    const list = join(target.of(name), file);
    if (kind === 'pieces' && !existsSync(list)) continue;
    for (const one of listedTexts(list)) {
      if (!one) throw new ObjectStoreError('The list of texts of a backup is damaged.');
      yield keyOf(kind, one.name);
    }
  }
}

/** The same of one in the bucket. One whose list is gone says nothing, unless it `mustBe` known what it needs. */
async function sharedIn(store: ObjectStore, name: string, mustBe = false): Promise<string[]> {
  const found: string[] = [];
  for (const { kind, file } of LISTS) {
    const text = await textOf(store, `${name}/${file}`);
    // A backup of version 0.1.0 has its database whole.
    if (text === null && mustBe && (kind === 'texts' || !(await isThere(store, `${name}/${DATABASE_COPY}`))))
      throw new ObjectStoreError(`The list of ${kind} of ${name} in ${store.name} is gone.`);
    for (const line of (text ?? '').split('\n')) {
      const [, one] = /^([0-9a-f]{64}) \d+$/.exec(line) ?? [];
      if (one !== undefined) found.push(keyOf(kind, one));
    }
  }
  return found;
}

async function isThere(store: ObjectStore, key: string): Promise<boolean> {
  for await (const one of store.list(key)) if (one.key === key) return true;
  return false;
}

/** A bucket has the backups of one host. */
async function requireOurs(target: BackupTarget, store: ObjectStore, send: (key: string, file: string) => Promise<void>): Promise<void> {
  const mark = await textOf(store, MARK);
  if (mark === null) {
    for await (const _one of store.list(''))
      throw new ObjectStoreError(`${store.name} holds something else: backups need their own place.`);
    return send(MARK, join(target.folder, MARK));
  }
  const said = asObject(mark);
  if (said.format !== 1 || said.host !== target.host)
    throw new ObjectStoreError(`The backups in ${store.name} belong to ${String(said.host).slice(0, 253)}.`);
}

/** What a stranger may have put there. */
function asObject(text: string): { format?: unknown; host?: unknown } {
  try {
    return (JSON.parse(text) ?? {}) as object;
  } catch {
    return {};
  }
}

async function textOf(store: ObjectStore, key: string): Promise<string | null> {
  const pieces = await store.get(key);
  if (pieces === null) return null;
  const all: Uint8Array[] = [];
  let size = 0;
  for await (const one of pieces) {
    size += one.length;
    if (size > 100_000_000) throw new ObjectStoreError(`${key} in ${store.name} is not a backup file.`);
    all.push(one);
  }
  return Buffer.concat(all).toString('utf8');
}

/** Fetches one backup of a bucket into an empty folder, or goes on with what is there; the newest where none is named. It is not proven yet. Returns its name. */
export async function fetchBackup(
  store: ObjectStore,
  asked: string | null,
  folder: string,
  onProgress: (done: number, total: number) => void = () => {},
): Promise<string> {
  let newest = '';
  for await (const { key } of store.list('')) {
    const [name = '', file] = key.split('/');
    if (file === MANIFEST && timeOfBackup(name) !== null && (asked === null ? name > newest : name === asked)) newest = name;
    if (name > 'a') break;
  }
  if (newest === '')
    throw new ObjectStoreError(`There is no ${asked === null ? 'finished backup' : `backup “${asked.slice(0, 60)}”`} in ${store.name}.`);
  const get = async (key: string, place: string): Promise<void> => {
    const pieces = await store.get(key);
    if (pieces === null) throw new ObjectStoreError(`${key} is not in ${store.name}.`);
    makeFolder(dirname(place), 0o700);
    await pipeline(pieces, createWriteStream(place, { mode: 0o600 }));
  };
  makeFolder(folder, 0o700);
  await get(MARK, join(folder, MARK));
  const manifest = await textOf(store, `${newest}/${MANIFEST}`);
  const { texts } = (manifest === null ? null : readManifest(manifest)) ?? {};
  if (manifest === null || !texts) throw new ObjectStoreError(`The manifest of ${newest} in ${store.name} can’t be read.`);
  const isWhole = await isThere(store, `${newest}/${DATABASE_COPY}`);
  for (const file of [isWhole ? DATABASE_COPY : PIECE_LIST, TEXT_LIST]) await get(`${newest}/${file}`, join(folder, newest, file));
  const gate = new Gate(AT_ONCE);
  let done = 0;
  let waiting: Promise<void>[] = [];
  for (const { kind, file } of LISTS) {
    if (kind === 'pieces' && isWhole) continue;
    for (const one of listedTexts(join(folder, newest, file))) {
      if (!one) throw new ObjectStoreError(`The list of ${kind} of ${newest} in ${store.name} is damaged.`);
      const key = keyOf(kind, one.name);
      const place = join(folder, key);
      if (!existsSync(place) || statSync(place).size !== one.size) waiting.push(gate.run(() => get(key, place)));
      if (waiting.length >= 100) {
        await Promise.all(waiting);
        waiting = [];
      }
      if (kind === 'texts') done += 1;
      onProgress(done, texts.count);
    }
  }
  await Promise.all(waiting);
  // Last, as always.
  writeFileSync(join(folder, newest, MANIFEST), manifest, { mode: 0o600 });
  return newest;
}
