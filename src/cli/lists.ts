import { type Command, Option } from 'commander';
import type { ApiClient } from './client.ts';
import { choice } from './numbers.ts';
import { type Json, safe, show, table } from './output.ts';

/** What every list takes. */
export interface ListOptions {
  search: string;
  sort: string;
  reverse?: true;
}

export const searchOption = (): Option => new Option('--search <text>', 'only rows with this text').default('', 'all');
export const sortOption = (orders: readonly [string, ...string[]]): Option =>
  choice('--sort <column>', 'sort order', orders).default(orders[0]);
export const reverseOption = (): Option => new Option('--reverse', 'in reverse order');

/** The path of a list as it is asked for. */
const listed = (path: string, { search, sort, reverse }: ListOptions): string =>
  `${path}?${new URLSearchParams({ search, sort, ...(reverse ? { reverse: 'true' } : {}) })}`;

/** Prints the whole of a list; one that is empty because of a search says so. */
export async function showList<Row>(
  json: Json,
  client: ApiClient,
  path: string,
  options: ListOptions,
  human: (all: Row[]) => string,
): Promise<void> {
  show(json, await client.list<Row>(listed(path, options)), (all) =>
    all.length === 0 && options.search !== '' ? `Nothing matches “${safe(options.search)}”.` : human(all),
  );
}

interface ListCommand<Row> {
  /** `list <domain>`: with at most one argument, which path and `none` are made of. */
  command: string;
  about: string;
  orders: readonly [string, ...string[]];
  path: string | ((name: string) => string);
  /** What an empty list says. */
  none: string | ((name: string) => string);
  /** Some name the zone that times are told in, which is known when the command runs. */
  columns: () => string[];
  row: (one: Row) => (string | number | null)[];
}

const madeOf = (text: string | ((name: string) => string), name: string): string => (typeof text === 'string' ? text : text(name));

/** A list that is a table and nothing else. */
export function listCommand<Row>(
  noun: Command,
  { client, json }: { client: ApiClient; json: Json },
  { command, about, orders, path, none, columns, row }: ListCommand<Row>,
): void {
  noun
    .command(command)
    .description(about)
    .addOption(searchOption())
    .addOption(sortOption(orders))
    .addOption(reverseOption())
    .action(async (...given: unknown[]) => {
      const name = typeof given[0] === 'string' ? given[0] : '';
      const options = given[name === '' ? 0 : 1] as ListOptions;
      await showList<Row>(json, client, madeOf(path, name), options, (all) =>
        all.length === 0 ? madeOf(none, name) : table(columns(), all.map(row)),
      );
    });
}
