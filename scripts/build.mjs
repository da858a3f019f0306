// Builds the service and the console into dist/.
import { chmodSync, readFileSync, rmSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { build as bundle } from 'esbuild';
import { build as buildConsole } from 'vite';
import { writeChecksums } from './checksums.mjs';

const project = fileURLToPath(new URL('..', import.meta.url));

/** Packages that stay what they are: native or WebAssembly, found by path by a thread, or loaded only when they are wanted. */
const APART = ['better-sqlite3', 'hash-wasm', 'unixcrypt', 'pino', '@aws-sdk/*', 'acme-client', 'imapflow'];
const { devDependencies } = JSON.parse(readFileSync(`${project}package.json`, 'utf8'));

/** How the service and the programs beside it are bundled; with the packages, since finding and reading hundreds of files of theirs takes longer than all else at a start. */
export const serviceBuild = {
  absWorkingDir: project,
  entryPoints: {
    tenedor: 'src/programs/main.ts',
    'access-process': 'src/programs/access-process.ts',
    'backup-thread': 'src/programs/backup-thread.ts',
    'check-thread': 'src/programs/check-thread.ts',
    'transfer-thread': 'src/programs/transfer-thread.ts',
    'read-thread': 'src/programs/read-thread.ts',
    'file-thread': 'src/programs/file-thread.ts',
    'search-thread': 'src/programs/search-thread.ts',
    'hash-thread': 'src/programs/hash-thread.ts',
    bench: 'tests/bench/main.ts',
    endurance: 'tests/endurance/main.ts',
  },
  outdir: 'dist',
  outExtension: { '.js': '.mjs' },
  bundle: true,
  external: [...APART, ...Object.keys(devDependencies)],
  // Packages of the older kind ask for Node's own modules by `require`.
  banner: { js: "import { createRequire as makeRequire } from 'node:module'; const require = makeRequire(import.meta.url);" },
  platform: 'node',
  format: 'esm',
  splitting: true,
  chunkNames: 'parts/[name]-[hash]',
  target: 'node20.19',
  sourcemap: true,
  legalComments: 'none',
};

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  rmSync(`${project}dist`, { recursive: true, force: true });
  // A package has nothing that only measures.
  const { bench: _bench, endurance: _endurance, ...packaged } = serviceBuild.entryPoints;
  await bundle(process.argv.includes('--package') ? { ...serviceBuild, entryPoints: packaged } : serviceBuild);
  await buildConsole({ root: `${project}console`, configFile: `${project}vite.config.ts`, logLevel: 'warn' });
  chmodSync(`${project}tenedor`, 0o755);
  writeChecksums(project);
}
