import type { Command } from 'commander';
import type { Domain } from '../api/schemas.ts';
import { type ApiClient, part } from './client.ts';
import { type Json, nothing, show, table } from './output.ts';

export function twinCommands(program: Command, client: ApiClient, json: Json): void {
  const twin = program.command('twin').description('alias domains: every address delivers to the same name in another domain');
  twin
    .command('add <domain> <of>')
    .description('make a domain a twin (alias domain) of another')
    .action(async (name: string, of: string) =>
      show(
        json,
        await client.put<Domain>(`/domains/${part(name)}/twin`, { of }),
        (one) => `Every address in ${one.name} now delivers to the same name in ${one.twinOf}.`,
      ),
    );
  twin
    .command('list')
    .description('list twins')
    .action(async () =>
      show(
        json,
        (await client.list<Domain>('/domains')).filter((one) => one.twinOf !== null),
        (all) =>
          all.length === 0
            ? nothing('twins', 'tenedor twin add shop-two.example shop.example')
            : table(
                ['domain', 'twin of'],
                all.map((one) => [one.name, one.twinOf ?? '']),
              ),
      ),
    );
  twin
    .command('remove <domain>')
    .description('end the twin: the domain has its own addresses again')
    .action(async (name: string) =>
      show(json, await client.delete<Domain>(`/domains/${part(name)}/twin`), (one) => `${one.name} is no longer a twin.`),
    );
}
