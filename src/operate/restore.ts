import { existsSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { restoredWords } from '../cli/backup.ts';
import { CommandError, EXIT } from '../cli/errors.ts';
import { progress, say } from '../cli/output.ts';
import { bucketOf } from '../compose/backup-settings.ts';
import { ObjectStoreError } from '../core/backup/object-store.ts';
import type { Config } from '../service/app/config.ts';
import { fetchBackup } from '../store/backup/mirror.ts';
import { FETCHED, restoreBackup } from '../store/backup/restore-backup.ts';
import { BackupTarget } from '../store/backup/target.ts';
import { verifyBackup } from '../store/backup/verify-backup.ts';
import { makeFolder } from '../store/make-folder.ts';
import { reasonOf, StoreError } from '../store/open-data.ts';
import { readConfig } from './read-config.ts';
import { idsOf } from './system-users.ts';

export interface RestoreOptions {
  config?: string;
  backup?: string;
  passphraseFile?: string;
  check?: true;
  leaveOut?: string[];
}

/** Restores a backup into the empty data directory of a configuration; with `check` only proves it. Works without a service. */
export async function restore(source: string, options: RestoreOptions): Promise<void> {
  let fetched: string | null = null;
  try {
    if (source === BUCKET) {
      const config = readConfig(requireConfig(options));
      fetched = join(config.data, FETCHED);
      return await restore(fetched, { ...options, backup: await fetchFrom(config, options.backup ?? null, fetched) });
    }
    if (options.check) return check(source, options.backup);
    const config = readConfig(requireConfig(options));
    const { name, held, leftOut } = await restoreBackup(
      {
        source,
        name: options.backup ?? null,
        data: config.data,
        keyFile: config.secrets.key_file,
        passphrase: options.passphraseFile === undefined ? null : readFileSync(options.passphraseFile, 'utf8').trim(),
        now: Date.now(),
        leaveOut: options.leaveOut ?? [],
        owner: ownerOf(config),
      },
      progress,
    );
    progress('');
    say(restoredWords(name, held, leftOut));
  } catch (error) {
    progress('');
    if (error instanceof CommandError) throw error;
    if (error instanceof StoreError || error instanceof ObjectStoreError)
      throw new CommandError(EXIT.refused, error.message, 'See what is there: tenedor restore SOURCE --check');
    if ((error as { code?: unknown }).code !== undefined)
      throw new CommandError(EXIT.refused, `It can’t be read: ${reasonOf(error)}.`, 'Check its path and permissions.');
    throw error;
  } finally {
    // What was fetched whole is in its place now, or was proven; what broke off is gone on with.
    if (fetched !== null && existsSync(join(fetched, UNFETCHED)) === false) rmSync(fetched, { recursive: true, force: true });
  }
}

/** Run as root, a restore ends with the files of the user whose service it is. */
function ownerOf({ user, data }: Config): { uid: number; gid: number } | null {
  if (process.getuid?.() !== 0) return null;
  const named = user === undefined ? null : idsOf(user);
  if (named) return named;
  // Whose the directory was made to be.
  const found = statSync(data, { throwIfNoEntry: false });
  return found && found.uid !== 0 ? { uid: found.uid, gid: found.gid } : null;
}

/** The word for the bucket of the configuration. */
const BUCKET = 'bucket';
const UNFETCHED = 'unfetched';

function requireConfig({ config, check }: RestoreOptions): string {
  if (config !== undefined) return config;
  throw new CommandError(
    EXIT.usage,
    check ? 'Which bucket is meant?' : 'Where is it to be restored?',
    'Name the configuration of the service: --config FILE; a folder of backups is only proven with: --check',
  );
}

async function fetchFrom({ backup }: Config, name: string | null, folder: string): Promise<string> {
  if (!backup.bucket) throw new StoreError('The configuration names no bucket ([backup.bucket]).');
  makeFolder(folder, 0o700);
  writeFileSync(join(folder, UNFETCHED), '');
  const { openBucket } = await import('../net/bucket.ts');
  const found = await fetchBackup(openBucket(bucketOf(backup.bucket)), name, folder, (done, total) =>
    progress(`Fetching ${done} of ${total} texts …`),
  );
  rmSync(join(folder, UNFETCHED));
  return found;
}

function check(source: string, asked: string | undefined): void {
  const target = BackupTarget.open(source, null);
  const name = asked ?? target.list()[0]?.name;
  if (name === undefined) throw new StoreError(`There is no finished backup in ${source}.`);
  const { faults, texts, manifest } = verifyBackup(target, name, 0, (done, total) => progress(`${done} of ${total} texts`));
  progress('');
  if (faults.length === 0)
    return say(`${name} is whole: ${manifest?.counts.messages} messages in ${manifest?.counts.mailboxes} mailboxes, and ${texts} texts.`);
  say(`${name} is not whole: ${faults.join(' ')}`);
  process.exitCode = EXIT.notGood;
}
