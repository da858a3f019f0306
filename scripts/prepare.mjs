// Installs and builds what is missing or older than its sources. Needs Node and npm only.
import { spawnSync } from 'node:child_process';
import { existsSync, readdirSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';

const project = fileURLToPath(new URL('..', import.meta.url));

const [major, minor] = process.versions.node.split('.').map(Number);
if (major < 20 || (major === 20 && minor < 19)) {
  console.error(`Tenedor needs Node 20.19 or newer; this is ${process.versions.node}.\nInstall a newer Node and try again.`);
  process.exit(2);
}

function run(command, args) {
  const { status } = spawnSync(command, args, { cwd: project, stdio: 'inherit' });
  if (status !== 0) process.exit(status ?? 1);
}

function newest(path) {
  if (!existsSync(path)) return 0;
  const stat = statSync(path);
  if (!stat.isDirectory()) return stat.mtimeMs;
  return Math.max(0, ...readdirSync(path).map((name) => newest(join(path, name))));
}
const age = (path) => newest(join(project, path));

if (age('node_modules/.package-lock.json') < age('package-lock.json')) {
  console.log('Installing packages (a few minutes the first time: the database engine is compiled) …');
  // Not `npm ci`: it refuses a lock file that was written where the optional packages of other platforms are not offered.
  run('npm', ['install', '--no-save', '--no-audit', '--no-fund']);
}
const sources = Math.max(
  ...['src', 'console', 'tests/bench', 'tests/endurance', 'tests/support', 'package.json', 'vite.config.ts', 'scripts/build.mjs'].map(age),
);
if (Math.min(age('dist/tenedor.mjs'), age('dist/console/index.html')) < sources) {
  console.log('Building …');
  run(process.execPath, ['scripts/build.mjs']);
}
