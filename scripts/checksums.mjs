// node scripts/checksums.mjs FOLDER: writes dist/checksums.txt of a built program.
import { createHash } from 'node:crypto';
import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';

/** Of every file of the program that a package has, and of the packages that it brings with it, so that an update can tell whether it is whole. */
export function writeChecksums(folder, withPackages = false) {
  const below = (name) =>
    readdirSync(join(folder, name), { recursive: true, withFileTypes: true })
      .filter((one) => !one.isDirectory())
      .map((one) => relative(folder, join(one.parentPath, one.name)));
  const isMade = (path) => !/(^|\/)((bench|endurance)\.mjs|test-report\.json$|checksums\.txt$)|\.deb$/.test(path);
  const files = [...below('dist').filter(isMade), ...(withPackages ? below('node_modules') : [])];
  const lines = ['tenedor', ...files.sort()].map(
    (path) =>
      `${createHash('sha256')
        .update(readFileSync(join(folder, path)))
        .digest('hex')}  ${path}\n`,
  );
  writeFileSync(`${folder}/dist/checksums.txt`, lines.join(''));
}

if (process.argv[1] === fileURLToPath(import.meta.url)) writeChecksums(process.argv[2]);
