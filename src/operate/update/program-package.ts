import { execFile } from 'node:child_process';
import { createHash } from 'node:crypto';
import { chmodSync, createReadStream, existsSync, lstatSync, readdirSync, readFileSync, rmSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { type Release, readChangelog } from '../../core/updates/changelog.ts';
import { fitsNode, isVersion } from '../../core/updates/versions.ts';
import { leadsInto, makeFolder } from '../../store/make-folder.ts';
import { StoreError } from '../../store/open-data.ts';

const run = promisify(execFile);
const MOST_OUTPUT = 16 * 1024 * 1024;

/** What a package says of itself, unpacked. */
export interface ProgramPackage {
  /** The folder of its program. */
  folder: string;
  kind: 'deb' | 'archive';
  version: string;
  sha256: string;
  changes: Release[];
  /** What it needs from npm, by name. */
  needs: Record<string, string>;
}

/** Where a Debian package has the program. */
const DEB_HOME = 'usr/lib/tenedor';
/** Where one of npm has it. */
const NPM_HOME = 'package';
export const CHECKSUMS = 'dist/checksums.txt';

/** Unpacks a package into a folder that is made for it, and looks whether it is one of ours, whole, and runs here. Throws StoreError, one sentence. */
export async function openPackage(file: string, into: string, expectedSha256: string | null): Promise<ProgramPackage> {
  if (!existsSync(file) || !statSync(file).isFile()) throw new StoreError(`There is no file ${file}.`);
  const sha256 = await digestOf(file);
  const expected = expectedSha256?.replaceAll(':', '').toLowerCase() ?? null;
  if (expected !== null && sha256 !== expected)
    throw new StoreError(`${file} does not match: its SHA-256 is ${sha256}, not ${expected.slice(0, 64)}.`);
  rmSync(into, { recursive: true, force: true });
  makeFolder(into, 0o755);
  const kind = file.endsWith('.deb') ? 'deb' : 'archive';
  try {
    if (kind === 'deb') await run('dpkg-deb', ['--extract', file, into], { maxBuffer: MOST_OUTPUT });
    else await run('tar', ['--extract', '--file', file, '--directory', into, '--no-same-owner'], { maxBuffer: MOST_OUTPUT });
  } catch (error) {
    throw new StoreError(`${file} can’t be unpacked: ${saidFirst(error)}`);
  }
  // Its own top folder may be for its maker alone; what runs out of it has another user.
  chmodSync(into, 0o755);
  requirePlain(file, into, '');
  const folder = join(into, kind === 'deb' ? DEB_HOME : NPM_HOME);
  const about = readAbout(file, folder);
  await compareChecksums(file, folder);
  return { folder, kind, sha256, ...about, changes: readChangelog(readText(join(folder, 'CHANGELOG.md'))) };
}

/** Files and folders, and links that stay within: nothing else is looked at, be it a device that never ends or a file that runs as somebody else. */
function requirePlain(file: string, top: string, below: string): void {
  for (const name of readdirSync(join(top, below))) {
    const path = below === '' ? name : `${below}/${name}`;
    const about = lstatSync(join(top, path));
    if (about.isDirectory()) requirePlain(file, top, path);
    else if (about.isSymbolicLink() ? !leadsInto(join(top, path), top) : !about.isFile() || about.nlink > 1)
      throw new StoreError(`${file} contains something that is not a file: ${path}.`);
    if (!about.isSymbolicLink() && (about.mode & 0o6000) !== 0) throw new StoreError(`${file} contains a set-user-ID file: ${path}.`);
  }
}

const saidFirst = (error: unknown): string =>
  ((error as { stderr?: string }).stderr || String(error)).trim().split('\n')[0]?.slice(0, 300) ?? '';

/** What a program said last before it failed. */
export const lastLine = (error: unknown): string => {
  const { stderr, message } = error as { stderr?: string; message: string };
  return (stderr || message).trim().split('\n').at(-1)?.slice(0, 300) ?? '';
};

const readText = (path: string): string => (existsSync(path) ? readFileSync(path, 'utf8') : '');

function readAbout(file: string, folder: string): Pick<ProgramPackage, 'version' | 'needs'> {
  const notOurs = new StoreError(`${file} is not a Tenedor package.`);
  if (!existsSync(join(folder, 'package.json')) || !existsSync(join(folder, 'dist/tenedor.mjs'))) throw notOurs;
  let about: { name?: unknown; version?: unknown; engines?: { node?: unknown }; dependencies?: Record<string, string> };
  try {
    about = JSON.parse(readText(join(folder, 'package.json')));
  } catch {
    throw notOurs;
  }
  if (about === null || typeof about !== 'object') throw notOurs;
  const { name, version, engines, dependencies = {} } = about;
  if (name !== 'tenedor' || typeof version !== 'string' || !isVersion(version)) throw notOurs;
  const node = typeof engines?.node === 'string' ? engines.node : '*';
  if (!fitsNode(process.version, node))
    throw new StoreError(`Tenedor ${version} needs Node.js ${node}; this is ${process.version}. Update Node.js first.`);
  return { version, needs: dependencies };
}

/** Each file that the package lists, and no other of its program or of the packages that it brings with it. */
async function compareChecksums(file: string, folder: string): Promise<void> {
  const listed = new Map(
    readText(join(folder, CHECKSUMS))
      .split('\n')
      .flatMap((line) => {
        const found = /^([0-9a-f]{64}) {2}(\S.*)$/.exec(line);
        return found ? [[found[2] ?? '', found[1] ?? ''] as const] : [];
      }),
  );
  if (listed.size === 0) throw new StoreError(`${file} has no checksums: it is incomplete, or not a release.`);
  const isProgram = (path: string): boolean => path === 'tenedor' || /^(?:dist|node_modules)\//.test(path);
  const there = filesBelow(folder, '').filter((path) => isProgram(path) && path !== CHECKSUMS);
  for (const path of new Set([...listed.keys(), ...there])) {
    const expected = listed.get(path);
    const whole = join(folder, path);
    if (expected === undefined) throw new StoreError(`${file} contains an unlisted file: ${path}.`);
    if (!existsSync(whole) || (await digestOf(whole)) !== expected)
      throw new StoreError(`${file} is damaged: ${path} does not match its checksum.`);
  }
}

function filesBelow(folder: string, below: string): string[] {
  return readdirSync(join(folder, below)).flatMap((name) => {
    const path = below === '' ? name : `${below}/${name}`;
    const about = lstatSync(join(folder, path));
    return about.isDirectory() ? filesBelow(folder, path) : [path];
  });
}

export async function digestOf(file: string): Promise<string> {
  const hash = createHash('sha256');
  for await (const some of createReadStream(file)) hash.update(some as Buffer);
  return hash.digest('hex');
}
