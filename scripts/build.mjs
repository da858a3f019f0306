// Builds the service and the console into dist/.
import { chmodSync, rmSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { build as bundle } from 'esbuild';
import { build as buildConsole } from 'vite';
import { writeChecksums } from './checksums.mjs';

const project = fileURLToPath(new URL('..', import.meta.url));

/** How the service and the programs beside it are bundled. */
export const serviceBuild = {
  absWorkingDir: project,
  entryPoints: {
    tenedor: 'src/main.ts',
    'access-process': 'src/access-process.ts',
    'backup-thread': 'src/backup-thread.ts',
    'check-thread': 'src/check-thread.ts',
    'transfer-thread': 'src/transfer-thread.ts',
    bench: 'tests/bench/main.ts',
    endurance: 'tests/endurance/main.ts',
  },
  outdir: 'dist',
  outExtension: { '.js': '.mjs' },
  bundle: true,
  packages: 'external',
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
