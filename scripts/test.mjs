// npm test: everything from a fresh clone to the last test. Needs Node and npm; Chromium comes from Debian's packages.
import { spawn, spawnSync } from 'node:child_process';
import { accessSync, chmodSync, constants, existsSync, mkdirSync, mkdtempSync, readFileSync, statfsSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';
import './prepare.mjs';

const project = fileURLToPath(new URL('..', import.meta.url));
const CHROMIUM = '/usr/bin/chromium';

function run(command, args, env = {}) {
  const { status } = spawnSync(command, args, { cwd: project, stdio: 'inherit', env: { ...process.env, ...env } });
  return status ?? 1;
}
function must(command, args, env) {
  const status = run(command, args, env);
  if (status !== 0) process.exit(status);
}
/** Where tests write, and what marks their processes: what is left of them goes when this one ends, however it ends. */
function ownPlace() {
  const folder = mkdtempSync(join(inMemory(), 'tenedor-tests-'));
  // Some tests are other users.
  chmodSync(folder, 0o1777);
  const mark = `${process.pid} ${Date.now()}`;
  const after = fileURLToPath(new URL('after-tests.mjs', import.meta.url));
  spawn(process.execPath, [after, [process.pid, ...begunBy(process.ppid)].join(), mark, folder], {
    detached: true,
    stdio: 'ignore',
  }).unref();
  return { TMPDIR: folder, TENEDOR_TEST_RUN: mark };
}
/** Who began this: its parents up to npm, which puts a shell between; nobody where that was not npm. */
function begunBy(pid, depth = 0) {
  try {
    if (readFileSync(`/proc/${pid}/cmdline`, 'latin1').startsWith('npm')) return [pid];
    const parent = Number(/^PPid:\s+(\d+)/m.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))?.[1] ?? 0);
    const above = parent <= 1 || depth === 2 ? [] : begunBy(parent, depth + 1);
    return above.length === 0 ? [] : [pid, ...above];
  } catch {
    return [];
  }
}
/** Tests keep what they write in memory where there is room for it: they wait for the processor, and not for a disk. */
function inMemory() {
  const place = '/dev/shm';
  const ROOM = 4 * 1024 ** 3;
  try {
    accessSync(place, constants.W_OK | constants.X_OK);
    const { bavail, bsize } = statfsSync(place);
    return process.env.TMPDIR === undefined && bavail * bsize >= ROOM ? place : tmpdir();
  } catch {
    return tmpdir();
  }
}
function firstLine(text) {
  return text.split('\n', 1)[0].slice(0, 300);
}
/** Stages with their beginnings, so that the end can say what each one took. */
const stages = [{ name: 'Build', at: performance.now() - process.uptime() * 1000 }];
function step(text) {
  stages.push({ name: text.split(' ', 1)[0], at: performance.now() });
  console.log(`\n── ${text}`);
}
function times() {
  const ends = [...stages.slice(1).map((one) => one.at), performance.now()];
  return stages.map(({ name, at }, place) => `${name} ${Math.round((ends[place] - at) / 1000)} s`).join(', ');
}

// named-checkzone (bind9-utils) is the peer that reads our zone files, named (bind9) the one that takes our updates.
const needed = [
  [CHROMIUM, 'chromium'],
  ['/usr/bin/named-checkzone', 'bind9-utils'],
  ['/usr/sbin/named', 'bind9'],
  // Programs that read mail, as people use them.
  ['/usr/bin/python3', 'python3'],
  ['/usr/bin/curl', 'curl'],
  ['/usr/bin/openssl', 'openssl'],
  // An authority of RFC 8555, and what tells Chromium whom to trust.
  ['/usr/bin/pebble', 'pebble'],
  ['/usr/bin/certutil', 'libnss3-tools'],
  // What reads our unit, and what says that the service is up.
  ['/usr/bin/systemd-analyze', 'systemd'],
  ['/usr/bin/systemd-notify', 'systemd'],
  ['/usr/bin/dpkg-deb', 'dpkg'],
  ['/usr/bin/mbsync', 'isync'],
  ['/usr/bin/mutt', 'mutt'],
].filter(([file]) => !existsSync(file));
if (needed.length > 0) {
  const packages = [...new Set(needed.map(([, name]) => name))];
  step(`Installing ${packages.join(', ')} from Debian’s packages`);
  const [command, ...prefix] = process.getuid?.() === 0 ? ['apt-get'] : ['sudo', 'apt-get'];
  const apt = (...args) => must(command, [...prefix, ...args], { DEBIAN_FRONTEND: 'noninteractive' });
  apt('update');
  apt('install', '-y', '--no-install-recommends', ...packages);
}

step('Types');
must('npx', ['tsc']);
step('Format and lint');
must('npx', ['biome', 'check', '.']);
step('Tests');
mkdirSync(`${project}dist`, { recursive: true });
const report = `${project}dist/test-report.json`;
const args = process.argv.slice(2);
const status = run('npx', ['vitest', 'run', '--reporter=default', '--reporter=json', `--outputFile.json=${report}`, ...args], ownPlace());
const { numPassedTests, numFailedTests, numPendingTests, testResults } = JSON.parse(readFileSync(report, 'utf8'));
// What failed stands at the end once more, in a line each: a log that was cut keeps it.
for (const { name, message, assertionResults } of testResults) {
  const failed = assertionResults.filter((one) => one.status === 'failed');
  if (failed.length === 0 && message) console.log(`✕ ${relative(project, name)}: ${firstLine(message)}`);
  for (const { fullName, failureMessages } of failed)
    console.log(`✕ ${relative(project, name)} › ${fullName}: ${firstLine(failureMessages[0] ?? '')}`);
}
console.log(`\n${numPassedTests} passed, ${numFailedTests} failed${numPendingTests > 0 ? `, ${numPendingTests} skipped` : ''}`);
console.log(times());
process.exit(status === 0 && numPassedTests === 0 ? 1 : status);
