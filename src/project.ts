import { existsSync, readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

/** The project's folder, wherever in it this code lies: the sources in src, the built parts in dist. */
export const PROJECT: string = (() => {
  let folder = dirname(fileURLToPath(import.meta.url));
  while (!existsSync(join(folder, 'package.json'))) folder = dirname(folder);
  return folder;
})();

export const VERSION: string = (JSON.parse(readFileSync(join(PROJECT, 'package.json'), 'utf8')) as { version: string }).version;
