import { resolve } from 'node:path';
import type { Command } from 'commander';
import { MAIL_FORMS } from '../core/vocabulary.ts';
import type { ApiClient } from './client.ts';
import { choice } from './numbers.ts';
import type { Json } from './output.ts';
import { begun, noWait } from './transfer.ts';

export function exportCommands(program: Command, client: ApiClient, json: Json): void {
  program
    .command('export <name> <path>')
    .description(
      'export a mailbox, a domain or a customer to files on the server: mail with folders and flags, addresses, records, checksums',
    )
    .option('--customer', 'the name is a customer’s')
    .addOption(choice('--form <form>', 'one mbox a folder, or one file a message', MAIL_FORMS).default('mbox'))
    .option('--archive', 'write one archive file, .tar or .tar.gz')
    .option('--hashes', 'include password hashes, for another server')
    .addOption(noWait())
    .action(
      async (name: string, path: string, options: { customer?: true; form: string; archive?: true; hashes?: true; wait: boolean }) => {
        const what = options.customer ? 'customer' : name.includes('@') ? 'mailbox' : 'domain';
        const isArchive = options.archive === true || /\.(tar|tgz|tar\.gz)$/i.test(path);
        const body = { what, name, path: resolve(path), form: options.form, isArchive, withHashes: options.hashes === true };
        await begun(client, json, '/transfers/export', body, options.wait);
      },
    );
}
