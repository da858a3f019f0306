import type { Command } from 'commander';
import type { MovedAddress } from '../api/moved-schemas.ts';
import { ORDERS } from '../core/vocabulary.ts';
import { confirm } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { listCommand } from './lists.ts';
import { wholeNumber } from './numbers.ts';
import { bold, type Json, safe, show, stamp, time } from './output.ts';

const whatHappens = ({ to, forwardUntil }: MovedAddress): string =>
  forwardUntil !== null && forwardUntil > Date.now()
    ? `forwarded until ${stamp(forwardUntil)}`
    : to === null
      ? 'refused: 550 5.1.6'
      : 'refused with the new address: 551 5.1.6';

export function movedCommands(program: Command, client: ApiClient, json: Json): void {
  const moved = program.command('moved').description('addresses whose owner has moved to another address');
  moved
    .command('add <address>')
    .description('record a new address: mail is forwarded for a while, and then refused with the new address')
    .option('--to <address>', 'the new address (default: senders do not learn it)')
    .option('--forward-days <number>', 'forward mail for this many days', wholeNumber, 0)
    .action(async (address: string, { to = null, forwardDays }: { to?: string | null; forwardDays: number }) =>
      show(
        json,
        await client.post<MovedAddress>('/moved-addresses', { address, to, forwardDays }),
        (one) => `${bold(safe(one.address))} has moved; mail is ${whatHappens(one)}.`,
      ),
    );
  listCommand<MovedAddress>(
    moved,
    { client, json },
    {
      command: 'list <domain>',
      about: 'list a domain’s moved addresses',
      orders: ORDERS.movedAddresses,
      path: (domain) => `/domains/${part(domain)}/moved-addresses`,
      none: (domain) => `${safe(domain)} has no moved addresses.`,
      columns: () => ['address', 'to', 'mail is', 'since'],
      row: (one) => [safe(one.address), safe(one.to ?? 'not told'), whatHappens(one), time(one.since)],
    },
  );
  moved
    .command('remove <address>')
    .description('remove the entry; the address is free again')
    .option('--yes', 'do not ask')
    .action(async (address: string, options: { yes?: true }) => {
      await confirm(`Remove the moved address ${address}? Its mail will be refused as unknown.`, options.yes);
      show(json, await client.delete(`/moved-addresses/${part(address)}`), () => `The moved address ${safe(address)} is removed.`);
    });
}
