import { createWriteStream, existsSync, statSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { pipeline } from 'node:stream/promises';
import { readManifest, timeOfBackup } from '../../core/backup/manifest.ts';
import { type ObjectStore, ObjectStoreError } from '../../core/backup/object-store.ts';
import { Gate } from '../../core/gate.ts';
import { makeFolder } from '../make-folder.ts';
import { digestOf } from './digests.ts';
import { type BackupTarget, DATABASE_COPY, MANIFEST, MARK, TEXT_LIST } from './target.ts';
import { listedTexts } from './text-list.ts';

export interface Mirrored {
  /** Objects that were not there, and their octets. */
  put: number;
  octets: number;
  removed: number;
}

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
  const folders = target.textFolders();
  for (const [at, prefix] of folders.entries()) {
    const there = new Map<string, number>();
    for await (const { key, size } of store.list(`texts/${prefix}/`)) there.set(key.slice(key.lastIndexOf('/') + 1), size);
    const here = target.textsIn(prefix).filter((rest) => /^[0-9a-f]{62}$/.test(rest));
    await Promise.all(
      here.map(async (rest) => {
        const file = target.text(prefix + rest);
        if (there.get(rest) !== statSync(file).size) await gate.run(() => send(`texts/${prefix}/${rest}`, file, prefix + rest));
      }),
    );
    onProgress(at + 1, folders.length);
  }
  const known = await backupsIn(store);
  for (const { name } of backups)
    if (!known.has(name)) {
      for (const file of [DATABASE_COPY, TEXT_LIST, MANIFEST]) await send(`${name}/${file}`, join(target.of(name), file));
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
  for (const name of going) for (const text of await listIn(store, name)) candidates.add(text);
  for (const name of going) await store.remove([`${name}/${MANIFEST}`]);
  const gone = new Set(going);
  for (const name of known) {
    if (gone.has(name)) continue;
    for (const text of here.has(name) ? namesIn(listedTexts(join(target.of(name), TEXT_LIST))) : await listIn(store, name, true))
      candidates.delete(text);
  }
  await store.remove([...candidates].map((name) => `texts/${name.slice(0, 2)}/${name.slice(2)}`));
  await store.remove(going.flatMap((name) => [DATABASE_COPY, TEXT_LIST].map((file) => `${name}/${file}`)));
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

function* namesIn(lines: Iterable<{ name: string } | null>): Generator<string> {
  for (const one of lines) {
    if (!one) throw new ObjectStoreError('The list of texts of a backup is damaged.');
    yield one.name;
  }
}

/** The texts that a backup in the bucket lists. One whose list is gone says nothing, unless it `mustBe` known what it needs. */
async function listIn(store: ObjectStore, name: string, mustBe = false): Promise<string[]> {
  const text = await textOf(store, `${name}/${TEXT_LIST}`);
  if (text === null && mustBe) throw new ObjectStoreError(`The list of texts of ${name} in ${store.name} is gone.`);
  return (text ?? '').split('\n').flatMap((line) => /^([0-9a-f]{64}) \d+$/.exec(line)?.[1] ?? []);
}

/** A bucket has the backups of one host. */
async function requireOurs(target: BackupTarget, store: ObjectStore, send: (key: string, file: string) => Promise<void>): Promise<void> {
  const mark = await textOf(store, MARK);
  if (mark === null) {
    for await (const _one of store.list(''))
      throw new ObjectStoreError(`${store.name} holds something else: backups want a place of their own.`);
    return send(MARK, join(target.folder, MARK));
  }
  const said = asObject(mark);
  if (said.format !== 1 || said.host !== target.host)
    throw new ObjectStoreError(`The backups in ${store.name} are those of ${String(said.host).slice(0, 253)}.`);
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
    if (size > 100_000_000) throw new ObjectStoreError(`${key} in ${store.name} is none of ours.`);
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
  for (const file of [DATABASE_COPY, TEXT_LIST]) await get(`${newest}/${file}`, join(folder, newest, file));
  const gate = new Gate(AT_ONCE);
  let done = 0;
  let waiting: Promise<void>[] = [];
  for (const one of listedTexts(join(folder, newest, TEXT_LIST))) {
    if (!one) throw new ObjectStoreError(`The list of texts of ${newest} in ${store.name} is damaged.`);
    const rest = `${one.name.slice(0, 2)}/${one.name.slice(2)}`;
    const place = join(folder, 'texts', rest);
    const isThere = existsSync(place) && statSync(place).size === one.size;
    if (!isThere) waiting.push(gate.run(() => get(`texts/${rest}`, place)));
    if (waiting.length >= 100) {
      await Promise.all(waiting);
      waiting = [];
    }
    done += 1;
    onProgress(done, texts.count);
  }
  await Promise.all(waiting);
  // Last, as always.
  writeFileSync(join(folder, newest, MANIFEST), manifest, { mode: 0o600 });
  return newest;
}
