import { copyFileSync, mkdtempSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { BackupTarget, DATABASE_COPY } from '../backup/target.ts';
import { Database } from '../database.ts';
import { MIGRATIONS } from '../migrations.ts';
import { StoreError } from '../open-data.ts';
import { DATABASE_FILE, ReadDatabase } from '../read-database.ts';
import { WORK } from './work-folders.ts';

/** The database of a backup, to be read: of an older version, it is brought up to date in a copy. Throws StoreError. */
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
  if (version === MIGRATIONS.length) {
    const db = ReadDatabase.open(join(target.of(name), DATABASE_COPY));
    return { target, db, close: () => db.close() };
  }
  const place = mkdtempSync(join(data, WORK.recovering));
  try {
    copyFileSync(join(target.of(name), DATABASE_COPY), join(place, DATABASE_FILE));
    Database.open(place).close();
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
