import { existsSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { CommandError, EXIT } from '../../cli/errors.ts';
import { backupSettingsOf } from '../../compose/backup-settings.ts';
import { VERSION } from '../../project.ts';
import { sealKey } from '../../store/backup/sealed-key.ts';
import { isBeingMade } from '../../store/backup/target.ts';
import { writeBackup } from '../../store/backup/write-backup.ts';
import { Database } from '../../store/database.ts';
import { KeyFile } from '../../store/key-file.ts';
import { StoreError } from '../../store/open-data.ts';
import { bringUpToDate, changedSince, copyRunning, putBack, saveDatabase } from '../../store/update/saved-data.ts';
import { readConfig } from '../read-config.ts';

/** What is done to the data in an update, each in a process of its own that belongs to the user of the service; `try-copy` and `open` are done by the new program. */
export const PARTS = ['copy', 'try-copy', 'backup', 'save', 'open', 'changed', 'put-back'] as const;
export type Part = (typeof PARTS)[number];

export interface PartResults {
  copy: { octets: number; databaseVersion: number };
  /** `lost`: what a version that could still say so has taken away. */
  'try-copy': { version: string; from: number; to: number; ms: number; octets: number; lost?: { what: string; rows: number }[] };
  backup: { name: string | null };
  save: object;
  open: { version: string; databaseVersion: number };
  changed: { messages: number; folders: number };
  'put-back': object;
}

/** Where the copies of the database are. */
export const placesOf = (data: string): { folder: string; copy: string; kept: string } => ({
  folder: `${data}.update`,
  copy: join(`${data}.update`, 'copy'),
  kept: join(`${data}.update`, 'kept'),
});

/** Does a part, and writes what came of it to stdout as one line of JSON. Throws CommandError. */
export async function doPart(part: Part, file: string): Promise<void> {
  try {
    process.stdout.write(`${JSON.stringify(await resultOf(part, file))}\n`);
  } catch (error) {
    if (error instanceof StoreError) throw new CommandError(EXIT.refused, error.message, 'It was a part of an update.');
    throw error;
  }
}

async function resultOf<One extends Part>(part: One, file: string): Promise<PartResults[Part]> {
  const config = readConfig(file);
  const { data } = config;
  const { copy, kept } = placesOf(data);
  switch (part) {
    case 'copy':
      return copyRunning(data, copy);
    case 'try-copy':
      return { version: VERSION, ...bringUpToDate(copy, () => performance.now()) };
    case 'backup':
      return { name: await backUp(config) };
    case 'save':
      saveDatabase(data, kept);
      return {};
    case 'open': {
      const db = Database.open(data);
      try {
        KeyFile.open(config.secrets.key_file, KeyFile.isNeededBy(db));
        return { version: VERSION, databaseVersion: db.version() };
      } finally {
        db.close();
      }
    }
    case 'changed':
      return changedSince(data, kept);
    default:
      putBack(data, kept);
      return {};
  }
}

/** In its usual place, beside the others; null where there is none. */
async function backUp(config: ReturnType<typeof readConfig>): Promise<string | null> {
  const { data, target, perSecond, keep, passphraseFile, keyFile } = backupSettingsOf(config);
  if (target === null) return null;
  if (existsSync(target) && isBeingMade(target, Date.now()))
    throw new StoreError('A backup is running; see its progress: tenedor backup state');
  const key = passphraseFile === null ? null : sealKey(readFileSync(keyFile, 'utf8'), readFileSync(passphraseFile, 'utf8').trim());
  const { name } = await writeBackup({ data, target, host: config.host.name, version: VERSION, at: Date.now(), perSecond, keep, key });
  return name;
}
