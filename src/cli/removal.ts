import type { Removal } from '../api/schemas.ts';
import { confirm } from './ask.ts';
import type { ApiClient } from './client.ts';

/** Says what goes along, asks, removes. */
export async function remove(client: ApiClient, path: string, name: string, options: { yes?: true }): Promise<void> {
  const removal = await client.get<Removal>(`${path}/removal`);
  if (!options.yes) {
    process.stderr.write(`Removing ${name} takes along:\n${removal.goes.map((line) => `  ${line}\n`).join('') || '  nothing else\n'}`);
    process.stderr.write(`What stays: ${removal.stays.join(', ')}.\n`);
  }
  await confirm(`Remove ${name}?`, options.yes);
  await client.delete(path);
}
