import type { Command } from 'commander';
import type { AddedWitness, Witness } from '../api/rehearsal-schemas.ts';
import { ORDERS } from '../core/vocabulary.ts';
import { confirm } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { listCommand } from './lists.ts';
import { bold, dim, type Json, nothing, safe, show, time, zoned } from './output.ts';

const addedText = ({ name, givenCode, url }: AddedWitness): string =>
  givenCode === null
    ? `${bold(name)} and this host now test each other. Try it: tenedor rehearse relay --from ${name}`
    : [
        `One-time code for ${bold(name)}, good for an hour: ${bold(givenCode)}`,
        dim(`There: tenedor witness add (this host’s name) --url (the address of this host’s console) --code ${givenCode}`),
        ...(url === null ? [] : [dim(`The existing witness ${name} stays valid until then.`)]),
      ].join('\n');

/** What is known of it, in a word. */
const stateOf = (one: Witness): string =>
  !one.isIntroduced ? `has a code until ${time(one.codeUntil ?? 0)}` : one.url === null ? 'asks this host' : `is asked at ${one.url}`;

export function witnessCommands(program: Command, client: ApiClient, json: Json): void {
  const witness = program.command('witness').description('hosts that test this one from outside');
  witness
    .command('add <name>')
    .description('create a one-time code for another host, or use its code with --url and --code')
    .option('--url <url>', 'URL of its console')
    .option('--code <code>', 'the code it gave you')
    .option('--own-url <url>', 'URL of this host’s console, for its requests')
    .action(async (name: string, { url, code, ownUrl }: { url?: string; code?: string; ownUrl?: string }) =>
      show(
        json,
        await client.post<AddedWitness>('/witnesses', { name, url: url ?? null, code: code ?? null, ownUrl: ownUrl ?? null }),
        addedText,
      ),
    );
  listCommand<Witness>(
    witness,
    { client, json },
    {
      command: 'list',
      about: 'list them',
      orders: ORDERS.witnesses,
      path: '/witnesses',
      none: nothing('witnesses', 'tenedor witness add (on both hosts)'),
      columns: () => ['name', 'state', zoned('tests for us'), zoned('tests for it')],
      row: (one) => [
        safe(one.name),
        safe(stateOf(one)),
        one.askedAt === null ? 'never' : time(one.askedAt),
        one.asksAt === null ? 'never' : time(one.asksAt),
      ],
    },
  );
  witness
    .command('remove <name>')
    .description('remove a witness; neither host tests the other any more')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: true }) => {
      await confirm(`Remove the witness ${name}?`, options.yes);
      await client.delete(`/witnesses/${part(name)}`);
      show(json, {}, () => `${name} is no longer a witness.`);
    });
}
