import { Option } from 'commander';
import type { ApiClient } from './client.ts';
import { choice } from './numbers.ts';
import { type Json, safe, show } from './output.ts';

/** What every list takes. */
export interface ListOptions {
  search: string;
  sort: string;
  reverse?: true;
}

export const searchOption = (): Option => new Option('--search <text>', 'only rows that contain this text').default('', 'all');
export const sortOption = (orders: readonly [string, ...string[]]): Option =>
  choice('--sort <column>', 'sort by this', orders).default(orders[0]);
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
