import { readFileSync } from 'node:fs';
import { restoredWords } from './cli/backup.ts';
import { CommandError, EXIT } from './cli/errors.ts';
import { progress, say } from './cli/output.ts';
import { readConfig } from './serve.ts';
import { restoreBackup } from './store/backup/restore-backup.ts';
import { BackupTarget } from './store/backup/target.ts';
import { verifyBackup } from './store/backup/verify-backup.ts';
import { reasonOf, StoreError } from './store/open-data.ts';

export interface RestoreOptions {
  config?: string;
  backup?: string;
  passphraseFile?: string;
  check?: true;
}

/** Restores a backup into the empty data directory of a configuration; with `check` only proves it. Works without a service. */
export async function restore(source: string, options: RestoreOptions): Promise<void> {
  try {
    if (options.check) return check(source, options.backup);
    if (options.config === undefined)
      throw new CommandError(
        EXIT.usage,
        'Where is it to be restored?',
        'Name the configuration of the service: --config FILE; or only prove it: --check',
      );
    const config = readConfig(options.config);
    const { name, held } = await restoreBackup(
      {
        source,
        name: options.backup ?? null,
        data: config.data,
        keyFile: config.secrets.key_file,
        passphrase: options.passphraseFile === undefined ? null : readFileSync(options.passphraseFile, 'utf8').trim(),
        now: Date.now(),
      },
      progress,
    );
    progress('');
    say(restoredWords(name, held));
  } catch (error) {
    progress('');
    if (error instanceof CommandError) throw error;
    if (error instanceof StoreError)
      throw new CommandError(EXIT.refused, error.message, 'See what is there: tenedor restore SOURCE --check');
    if ((error as { code?: unknown }).code !== undefined)
      throw new CommandError(EXIT.refused, `It can’t be read: ${reasonOf(error)}.`, 'Look at its path, and who may read it.');
    throw error;
  }
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
