import type { Command } from 'commander';
import type { BackupContent } from '../api/transfer-schemas.ts';
import type { ApiClient } from './client.ts';
import { bold, dim, type Json, safe, show, size, table } from './output.ts';
import { begun, noWait } from './transfer.ts';

export function recoverCommands(backup: Command, client: ApiClient, json: Json): void {
  backup
    .command('show <address>')
    .description('show what a backup contains of a mailbox, folder by folder')
    .option('--backup <name>', 'name of the backup (default: the newest)')
    .action(async (address: string, { backup: name = '' }: { backup?: string }) =>
      show(json, await client.get<BackupContent>(`/backups/content?${new URLSearchParams({ address, backup: name })}`), (one) =>
        [
          `${bold(safe(one.address))} in the backup ${one.backup}`,
          table(
            ['folder', 'messages', 'size'],
            one.folders.map(({ folder, messages, bytes }) => [safe(folder), messages.toLocaleString('en'), size(bytes)]),
          ),
          dim(`Restore what is missing: tenedor backup recover ${one.address} --backup ${one.backup}`),
        ].join('\n'),
      ),
    );
  backup
    .command('recover <address-or-domain>')
    .description('restore mail from a backup into folders “Restored …”, beside the existing mail; a removed mailbox is created again')
    .option('--backup <name>', 'name of the backup (default: the newest)')
    .option('--folder <name>', 'only this folder and its subfolders')
    .option('--into <address>', 'restore into another mailbox')
    .option('--whole', 'include messages that the mailbox still has')
    .option('--target <path>', 'use the backups in another directory of the server')
    .addOption(noWait())
    .action(
      async (whose: string, options: { backup?: string; folder?: string; into?: string; whole?: true; target?: string; wait: boolean }) => {
        const { backup: name = null, folder = null, into = null, target = null } = options;
        const body = { whose, backup: name, folder, into, target, isWhole: options.whole === true };
        await begun(client, json, '/transfers/recover', body, options.wait);
      },
    );
}
