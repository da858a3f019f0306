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
    ? `led there until ${stamp(forwardUntil)}`
    : to === null
      ? 'refused: 550 5.1.6'
      : 'refused with the new address: 551 5.1.6';

export function movedCommands(program: Command, client: ApiClient, json: Json): void {
  const moved = program.command('moved').description('addresses whose owner has gone elsewhere');
  moved
    .command('add <address>')
    .description('say that its owner has gone: mail is led to the new address for a while, and then refused with it')
    .option('--to <address>', 'the new address; without it, nobody is told')
    .option('--forward-days <number>', 'for so many days mail is led there', wholeNumber, 0)
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
      about: 'list the addresses of a domain that have moved',
      orders: ORDERS.movedAddresses,
      path: (domain) => `/domains/${part(domain)}/moved-addresses`,
      none: (domain) => `No address of ${safe(domain)} has moved.`,
      columns: () => ['address', 'to', 'mail is', 'since'],
      row: (one) => [safe(one.address), safe(one.to ?? 'not told'), whatHappens(one), time(one.since)],
    },
  );
  moved
    .command('remove <address>')
    .description('forget that it has moved: the address is free')
    .option('--yes', 'do not ask')
    .action(async (address: string, options: { yes?: true }) => {
      await confirm(`Forget where ${address} has gone? Mail to it is refused then as to one that never was.`, options.yes);
      show(json, await client.delete(`/moved-addresses/${part(address)}`), () => `That ${safe(address)} had moved is forgotten.`);
    });
}
