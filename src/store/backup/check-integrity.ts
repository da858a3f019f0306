import { chmodSync, copyFileSync, existsSync, readdirSync, renameSync, rmSync } from 'node:fs';
import { dirname, join } from 'node:path';
import SQLite from 'better-sqlite3';
import { DELETED, SEEN } from '../../core/mailbox/flags.ts';
import { makeFolder } from '../make-folder.ts';
import { DATABASE_FILE } from '../read-database.ts';
import { digestOf } from './digests.ts';
import { NEEDED_TEXTS, placesOf } from './needed-texts.ts';
import { Pace } from './pace.ts';
import { BackupTarget, syncPath } from './target.ts';

export interface IntegrityOrder {
  data: string;
  /** Where backups lie, from which texts can be had again; null where there are none. */
  target: string | null;
  perSecond: number;
  /** Whether lost texts are fetched from the backups. */
  isRepairing: boolean;
}

/** What a look at all that is stored has found. */
export interface Integrity {
  /** What is wrong with the database itself. */
  database: string[];
  /** Texts that were read. */
  texts: number;
  /** Texts that are gone or not what was written, and whether a backup has them, or gave them back. */
  lost: { file: string; how: 'gone' | 'changed'; isInBackup: boolean; isBack: boolean }[];
  /** Mailboxes and domains whose count of what they store is wrong. */
  miscounted: { mailboxes: { id: number; address: string }[]; domains: { id: number; name: string }[] };
  /** Files among the texts that nothing needs any more: the sweep takes them away. */
  unneeded: number;
}

/** So many of each kind are told. */
const MOST = 1000;

/** Looks at the database, at every text by its name, and at the counts, within one moment of the database. Waits for the disk, and for its pace. */
export function checkIntegrity(order: IntegrityOrder, onProgress: (done: number, total: number) => void = () => {}): Integrity {
  const database = new SQLite(join(order.data, DATABASE_FILE), { readonly: true });
  try {
    database.exec('BEGIN');
    const faults = databaseFaults(database);
    // A database that can't be read says nothing of what it needs.
    if (faults.length > 0) return { database: faults, texts: 0, lost: [], miscounted: { mailboxes: [], domains: [] }, unneeded: 0 };
    const { texts, lost, needed } = readTexts(order, database, onProgress);
    return { database: faults, texts, lost, miscounted: miscountedIn(database), unneeded: unneededIn(order.data, needed) };
  } finally {
    database.close();
  }
}

function databaseFaults(database: SQLite.Database): string[] {
  const found = (database.pragma('integrity_check(10)') as { integrity_check: string }[])
    .map((one) => one.integrity_check)
    .filter((text) => text !== 'ok');
  const astray = (database.pragma('foreign_key_check') as unknown[]).length;
  return [...found.map((text) => `The database is damaged: ${text}.`), ...(astray === 0 ? [] : [`${astray} rows refer to missing rows.`])];
}

function readTexts(
  { data, target, perSecond, isRepairing }: IntegrityOrder,
  database: SQLite.Database,
  onProgress: (done: number, total: number) => void,
): { texts: number; lost: Integrity['lost']; needed: Set<string> } {
  const pace = new Pace(perSecond);
  const backups = target !== null && existsSync(target) ? BackupTarget.open(target, null) : null;
  const lost: Integrity['lost'] = [];
  const needed = new Set<string>();
  const total = (database.prepare(`SELECT count(*) AS count FROM (${NEEDED_TEXTS})`).get() as { count: number }).count;
  for (const { file } of database.prepare(NEEDED_TEXTS).iterate() as Iterable<{ file: string }>) {
    needed.add(file);
    if (needed.size % 100 === 0) onProgress(needed.size, total);
    const how = stateOf(data, file, pace);
    if (how === 'whole' || lost.length >= MOST) continue;
    const copy = backups?.texts.of(file);
    const isInBackup = copy !== undefined && existsSync(copy) && digestOf(copy).sha256 === file;
    if (isInBackup && isRepairing) bringBack(data, file, copy);
    lost.push({ file, how, isInBackup, isBack: isInBackup && isRepairing });
  }
  return { texts: needed.size, lost, needed };
}

function stateOf(data: string, file: string, pace: Pace): 'whole' | 'gone' | 'changed' {
  let how: 'gone' | 'changed' = 'gone';
  const places = placesOf(data, file);
  for (const place of [...places, ...places]) {
    try {
      if (digestOf(place, (octets) => pace.spent(octets)).sha256 === file) return 'whole';
      how = 'changed';
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'ENOENT') how = 'changed';
    }
  }
  return how;
}

/** A text of a backup takes the place of what is gone or damaged. */
function bringBack(data: string, file: string, copy: string): void {
  const [recent, lasting] = placesOf(data, file) as [string, string];
  const folder = dirname(lasting);
  makeFolder(folder, 0o700);
  const temporary = join(folder, `.back-${file.slice(2)}`);
  copyFileSync(copy, temporary);
  chmodSync(temporary, 0o600);
  renameSync(temporary, lasting);
  // Whoever looks for it looks there first.
  rmSync(recent, { force: true });
  syncPath(folder);
}

/** Folders whose counts are not those of their messages, or whose next UID one of them has already (RFC 3501 §2.3.1.1). */
const MISCOUNTED_FOLDERS = `SELECT f.mailbox_id FROM folder f LEFT JOIN message x ON x.folder_id = f.id GROUP BY f.id
  HAVING count(x.id) <> f.messages OR coalesce(sum(x.size), 0) <> f.bytes OR coalesce(sum(x.flags & ${SEEN} = 0), 0) <> f.unseen
    OR coalesce(sum(x.flags & ${DELETED} <> 0), 0) <> f.deleted OR coalesce(max(x.uid), 0) >= f.next_uid`;

function miscountedIn(database: SQLite.Database): Integrity['miscounted'] {
  return {
    mailboxes: database
      .prepare(
        `SELECT m.id, m.local || '@' || d.name AS address FROM kept_mailbox m JOIN domain d ON d.id = m.domain_id
         LEFT JOIN folder f ON f.mailbox_id = m.id LEFT JOIN message x ON x.folder_id = f.id
         GROUP BY m.id HAVING coalesce(sum(x.size), 0) <> m.used_bytes OR count(x.id) <> m.used_messages
         UNION
         SELECT m.id, m.local || '@' || d.name FROM (${MISCOUNTED_FOLDERS}) c JOIN kept_mailbox m ON m.id = c.mailbox_id JOIN domain d ON d.id = m.domain_id
         LIMIT ${MOST}`,
      )
      .all() as { id: number; address: string }[],
    domains: database
      .prepare(
        `SELECT d.id, d.name FROM domain_use u JOIN domain d ON d.id = u.domain_id
         LEFT JOIN kept_mailbox m ON m.domain_id = d.id AND m.removed_at IS NULL
         GROUP BY d.id HAVING coalesce(sum(m.used_bytes), 0) <> u.bytes OR coalesce(sum(m.used_messages), 0) <> u.messages LIMIT ${MOST}`,
      )
      .all() as { id: number; name: string }[],
  };
}

function unneededIn(data: string, needed: ReadonlySet<string>): number {
  const folder = join(data, 'messages');
  let count = 0;
  for (const prefix of readdirSync(folder).filter((one) => /^[0-9a-f]{2}$/.test(one)))
    for (const rest of readdirSync(join(folder, prefix))) if (!needed.has(prefix + rest)) count += 1;
  return count;
}
