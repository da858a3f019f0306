import { existsSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import manifest from '../package.json' with { type: 'json' };

export const VERSION: string = manifest.version;

/** The project's folder, wherever in it this code lies: the sources in src, the built parts in dist. */
export const PROJECT: string = (() => {
  let folder = dirname(fileURLToPath(import.meta.url));
  while (!existsSync(join(folder, 'package.json'))) folder = dirname(folder);
  return folder;
})();
