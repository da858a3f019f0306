import type { Removal } from '../api/schemas.ts';
import { confirm } from './ask.ts';
import type { ApiClient } from './client.ts';
import { safe } from './output.ts';

/** Says what goes along, asks, removes. */
export async function remove(client: ApiClient, path: string, name: string, options: { yes?: true }): Promise<void> {
  const removal = await client.get<Removal>(`${path}/removal`);
  if (!options.yes) {
    const lines = (all: readonly string[]): string => all.map((line) => `  ${safe(line)}\n`).join('') || '  nothing else\n';
    process.stderr.write(`Removing ${name} also removes:\n${lines(removal.goes)}Not removed:\n${lines(removal.stays)}`);
  }
  await confirm(`Remove ${name}?`, options.yes);
  await client.delete(path);
}
