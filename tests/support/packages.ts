import { execFileSync } from 'node:child_process';
import { cpSync, existsSync, mkdirSync, readdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { PROJECT } from '../../src/project.ts';

/** The built program as a package has it, in a folder, under another version. */
export function layOut(folder: string, version: string): void {
  mkdirSync(folder, { recursive: true });
  cpSync(join(PROJECT, 'dist'), join(folder, 'dist'), {
    recursive: true,
    filter: (path) => !/\.map$|\/(bench|endurance)\.mjs$|test-report\.json$|\.deb$/.test(path),
  });
  cpSync(join(PROJECT, 'tenedor'), join(folder, 'tenedor'));
  const about = JSON.parse(readFileSync(join(PROJECT, 'package.json'), 'utf8'));
  writeFileSync(join(folder, 'package.json'), JSON.stringify({ ...about, version }));
  writeFileSync(join(folder, 'CHANGELOG.md'), `# Changes\n\n## [${version}] - 2026-11-30\n\n### Added\n\n- News of ${version}.\n`);
}

const writeChecksums = (folder: string): void => {
  execFileSync(process.execPath, [join(PROJECT, 'scripts/checksums.mjs'), folder]);
};

/** What a version does otherwise. */
export interface Otherwise {
  /** One more table, or this. */
  migrates?: boolean | string;
  /** It ends as soon as it is to serve. */
  endsAtOnce?: boolean;
  /** It ends when a file is there. */
  endsBy?: string;
  /** The package is not as it was made. */
  spoil?: (folder: string) => void;
}

/** A package as npm makes it, of another version. Returns its path. */
export function packageOf(folder: string, version: string, { migrates, endsAtOnce, endsBy, spoil }: Otherwise = {}): string {
  const place = join(folder, `parts-${version}`);
  const inside = join(place, 'package');
  rmSync(place, { recursive: true, force: true });
  layOut(inside, version);
  if (migrates)
    change(inside, /(var MIGRATIONS = \[[^\]]*?)(,?\n\];)/, (_all, before: string, after: string) => {
      const sql = typeof migrates === 'string' ? migrates : 'CREATE TABLE later (id INTEGER PRIMARY KEY) STRICT;';
      return `${before},\n  ${JSON.stringify(sql)}${after}`;
    });
  const code = endsAtOnce
    ? 'process.exit(7)'
    : endsBy
      ? `import('node:fs').then(({ existsSync }) => setInterval(() => existsSync(${JSON.stringify(endsBy)}) && process.exit(7), 20))`
      : null;
  if (code !== null) {
    const program = join(inside, 'dist/tenedor.mjs');
    writeFileSync(program, `if (process.argv[2] === 'serve') ${code};\n${readFileSync(program, 'utf8')}`);
  }
  writeChecksums(inside);
  spoil?.(inside);
  const file = join(folder, `tenedor-${version}.tgz`);
  // Whether it is compressed makes no difference, but in time.
  execFileSync('tar', ['-cf', file, '-C', place, 'package']);
  rmSync(place, { recursive: true });
  return file;
}

function change(folder: string, what: RegExp, by: (all: string, before: string, after: string) => string): void {
  for (const name of readdirSync(join(folder, 'dist/parts'))) {
    const path = join(folder, 'dist/parts', name);
    const text = readFileSync(path, 'utf8');
    if (!what.test(text)) continue;
    writeFileSync(path, text.replace(what, by));
    return;
  }
  throw new Error('there is nothing of that to change');
}

/** The program of a version where it is installed, with what it needs from npm. */
export function install(home: string, version: string): void {
  layOut(home, version);
  if (!existsSync(join(home, 'node_modules'))) symlinkSync(join(PROJECT, 'node_modules'), join(home, 'node_modules'));
}
