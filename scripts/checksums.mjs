// node scripts/checksums.mjs FOLDER: writes dist/checksums.txt of a built program.
import { createHash } from 'node:crypto';
import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';

/** Of every file of the program that a package has, so that an update can tell whether it is whole. */
export function writeChecksums(folder) {
  const files = readdirSync(`${folder}/dist`, { recursive: true, withFileTypes: true })
    .filter((one) => one.isFile() && !/^(bench|endurance)\.mjs|^test-report\.json$|^checksums\.txt$|\.deb$/.test(one.name))
    .map((one) => relative(folder, join(one.parentPath, one.name)));
  const lines = ['tenedor', ...files.sort()].map(
    (path) =>
      `${createHash('sha256')
        .update(readFileSync(join(folder, path)))
        .digest('hex')}  ${path}\n`,
  );
  writeFileSync(`${folder}/dist/checksums.txt`, lines.join(''));
}

if (process.argv[1] === fileURLToPath(import.meta.url)) writeChecksums(process.argv[2]);
