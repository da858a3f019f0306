import type { Command } from 'commander';
import type { BackupContent } from '../api/transfer-schemas.ts';
import type { ApiClient } from './client.ts';
import { bold, dim, type Json, safe, show, size, table } from './output.ts';
import { begun, noWait } from './transfer.ts';

export function recoverCommands(backup: Command, client: ApiClient, json: Json): void {
  backup
    .command('show <address>')
    .description('what a backup has of a mailbox, folder by folder')
    .option('--backup <name>', 'which one; without it the newest')
    .action(async (address: string, { backup: name = '' }: { backup?: string }) =>
      show(json, await client.get<BackupContent>(`/backups/content?${new URLSearchParams({ address, backup: name })}`), (one) =>
        [
          `${bold(safe(one.address))} in the backup ${one.backup}`,
          table(
            ['folder', 'messages', 'size'],
            one.folders.map(({ folder, messages, bytes }) => [safe(folder), messages.toLocaleString('en'), size(bytes)]),
          ),
          dim(`Bring back what is missing: tenedor backup recover ${one.address} --backup ${one.backup}`),
        ].join('\n'),
      ),
    );
  backup
    .command('recover <address-or-domain>')
    .description('bring mail back out of a backup, beside what is there: into folders “Restored …”; a mailbox that is gone is made again')
    .option('--backup <name>', 'which one; without it the newest')
    .option('--folder <name>', 'only this folder, with those in it')
    .option('--into <address>', 'into another mailbox')
    .option('--whole', 'also what the mailbox still has')
    .option('--target <path>', 'from another place of the server')
    .addOption(noWait())
    .action(
      async (whose: string, options: { backup?: string; folder?: string; into?: string; whole?: true; target?: string; wait: boolean }) => {
        const { backup: name = null, folder = null, into = null, target = null } = options;
        const body = { whose, backup: name, folder, into, target, isWhole: options.whole === true };
        await begun(client, json, '/transfers/recover', body, options.wait);
      },
    );
}
