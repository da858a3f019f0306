import { existsSync, lchownSync, rmdirSync } from 'node:fs';
import { basename, dirname, join, resolve } from 'node:path';
import { CommandError, EXIT } from '../../cli/errors.ts';
import { progress, say, styled } from '../../cli/output.ts';
import { PROJECT } from '../../project.ts';
import type { Config } from '../../service/app/config.ts';
import { makeFolder } from '../../store/make-folder.ts';
import { isInUse, StoreError, takeLock } from '../../store/open-data.ts';
import { readConfig } from '../read-config.ts';
import { JournalFile } from './journal-file.ts';
import { placesOf } from './parts.ts';
import { type ProgramFolder, programFolderOf } from './program-folder.ts';
import { type DataOwner, ownerOf } from './run-part.ts';
import { type ServiceManager, serviceManager } from './service-manager.ts';

export interface UpdateOptions {
  config: string;
  sha256?: string;
  /** Seconds for which the new version is watched. */
  watch: number;
  /** Seconds in which it has to be up. */
  within: number;
}

/** What all of an update works with. */
export interface Workshop {
  config: Config;
  file: string;
  work: string;
  owner: DataOwner | null;
  journal: JournalFile;
  program: ProgramFolder;
  manager: ServiceManager;
}

export const good = (text: string): void => say(`  ${styled('green', '✓')} ${text}`);
export const bad = (text: string): void => say(`  ${styled('red', '✕')} ${text}`);

/** Runs some work on updates, alone. What stands in its way is one sentence. */
export async function inWorkshop(options: UpdateOptions, work: (shop: Workshop) => Promise<void>): Promise<void> {
  const file = resolve(options.config);
  const config = readConfig(file);
  const folder = join(dirname(PROJECT), `.${basename(PROJECT)}.update`);
  try {
    if (!existsSync(config.data)) throw new StoreError(`There is no data in ${config.data} yet.`);
    makeProgramFolder(folder);
    if (isInUse(folder)) throw new StoreError('Another update is running.');
    const lock = takeLock(folder);
    try {
      const owner = ownerOf(config.data);
      makeDataFolder(placesOf(config.data).folder, owner);
      await work({
        config,
        file,
        work: folder,
        owner,
        journal: new JournalFile(folder),
        program: await programFolderOf(PROJECT, folder),
        manager: await serviceManager(PROJECT, file, join(folder, 'service.log')),
      });
    } finally {
      lock.close();
      removeEmpty(placesOf(config.data).folder);
    }
  } catch (error) {
    progress('');
    if (error instanceof StoreError)
      throw new CommandError(EXIT.refused, error.message, 'Fix that, and run the command again. See: tenedor update --help');
    throw error;
  }
}

/** Where copies of the database are: for nobody but whose the data is. */
function makeDataFolder(folder: string, owner: DataOwner | null): void {
  makeFolder(folder, 0o700);
  if (owner) lchownSync(folder, owner.uid, owner.gid);
}

/** What is kept in it stays. */
function removeEmpty(folder: string): void {
  try {
    rmdirSync(folder);
  } catch {
    // It is not empty, or gone already.
  }
}

function makeProgramFolder(folder: string): void {
  try {
    makeFolder(folder, 0o755);
  } catch {
    throw new StoreError(`Nothing can be written beside ${PROJECT}: run this as root, or as its owner.`);
  }
}

/** For whom parts are done. */
export const shopOf = ({ file, owner }: Workshop): { config: string; owner: DataOwner | null } => ({ config: file, owner });
