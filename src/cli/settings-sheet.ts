import { writeFileSync } from 'node:fs';
import type { Command } from 'commander';
import type { SettingsSheet } from '../api/mailbox-schemas.ts';
import { type ApiClient, part } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { type Json, mark, safe, show } from './output.ts';

export function settingsCommand(mailbox: Command, client: ApiClient, json: Json): void {
  mailbox
    .command('settings <address>')
    .description('show client settings, mail them, or write them as a page')
    .option('--mail <to>', 'mail them to this address, without a password')
    .option('--page <file>', 'write a page to print, with a QR code')
    .action(async (address: string, options: { mail?: string; page?: string }) => {
      const path = `/mailboxes/${part(address)}/settings`;
      const sheet = await client.get<SettingsSheet>(path);
      if (options.page !== undefined) writePage(options.page, sheet.page);
      if (options.mail !== undefined) await client.post(`${path}/mail`, { to: options.mail });
      show(json, sheet, ({ text, warning }) =>
        [
          ...text.trimEnd().split('\n').map(safe),
          ...(warning === null ? [] : ['', `${mark('wrong')} ${safe(warning)}`]),
          ...(options.page === undefined ? [] : ['', `The page is written to ${options.page}.`]),
          ...(options.mail === undefined ? [] : ['', `Sent to ${safe(options.mail)}, without a password.`]),
        ].join('\n'),
      );
    });
}

function writePage(file: string, page: string): void {
  try {
    writeFileSync(file, page, { flag: 'wx' });
  } catch (error) {
    const { code } = error as NodeJS.ErrnoException;
    throw new CommandError(
      code === 'EEXIST' ? EXIT.usage : EXIT.unwritten,
      code === 'EEXIST' ? `${file} already exists.` : `${file} cannot be written (${code}).`,
      'Name another file.',
    );
  }
}
