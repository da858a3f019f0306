import { mkdtempSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { assembleDatabase } from '../backup/database-pieces.ts';
import { BackupTarget } from '../backup/target.ts';
import { Database } from '../database.ts';
import { MIGRATIONS } from '../migrations.ts';
import { StoreError } from '../open-data.ts';
import { DATABASE_FILE, ReadDatabase } from '../read-database.ts';
import { WORK } from './work-folders.ts';

/** The database of a backup, to be read in a copy; one of an older version is brought up to date there. Throws StoreError. */
export function openBackupCopy(
  targetFolder: string,
  name: string,
  data: string,
): { target: BackupTarget; db: ReadDatabase; close(): void } {
  const target = BackupTarget.open(targetFolder, null);
  const manifest = target.manifestOf(name);
  if (!manifest) throw new StoreError(`There is no finished backup “${name.slice(0, 60)}” in ${targetFolder}.`);
  const { version } = manifest.database;
  if (version > MIGRATIONS.length)
    throw new StoreError(`The backup’s database has version ${version}; this Tenedor knows versions up to ${MIGRATIONS.length}.`);
  const place = mkdtempSync(join(data, WORK.recovering));
  try {
    assembleDatabase(target, name, join(place, DATABASE_FILE));
    if (version < MIGRATIONS.length) Database.open(place).close();
    const db = ReadDatabase.open(join(place, DATABASE_FILE));
    const close = (): void => {
      db.close();
      rmSync(place, { recursive: true, force: true });
    };
    return { target, db, close };
  } catch (error) {
    rmSync(place, { recursive: true, force: true });
    throw error;
  }
}
