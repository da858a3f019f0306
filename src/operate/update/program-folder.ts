import { execFile } from 'node:child_process';
import { cpSync, existsSync, readdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { makeFolder } from '../../store/make-folder.ts';
import { reasonOf, StoreError } from '../../store/open-data.ts';
import { lastLine, type ProgramPackage } from './program-package.ts';

const run = promisify(execFile);
const MOST_OUTPUT = 64 * 1024 * 1024;

/** How the program is put in its place, and taken back. Each can be done again after it was cut off. */
export interface ProgramFolder {
  /** Makes ready what is needed to go on and to go back; returns the folder where the new program runs as it is. */
  prepare(one: ProgramPackage): Promise<string>;
  put(one: ProgramPackage, file: string): Promise<void>;
  /** Where the program of before runs, wherever it is now. */
  placeOf(from: string): string;
  /** Puts the program of before back, where it is not in its place. */
  back(from: string): Promise<void>;
}

/** Throws StoreError where a program is not to be replaced. */
export function requireInstalled(home: string): void {
  if (existsSync(join(home, '.git'))) throw new StoreError(`${home} is a working copy of the source: update it with git, and build it.`);
}

/** The way that fits how the program was installed. `work` is a folder on the same disk. */
export async function programFolderOf(home: string, work: string): Promise<ProgramFolder> {
  return (await isOfDpkg(home)) ? new DebianProgram(home, work) : new PlainProgram(home, work);
}

async function isOfDpkg(home: string): Promise<boolean> {
  const root = process.env['DPKG_ROOT'] ?? '';
  if (!home.startsWith(root)) return false;
  try {
    await run('dpkg-query', ['--search', `${home.slice(root.length)}/package.json`]);
    return true;
  } catch {
    return false;
  }
}

/** The version of the program in a folder; null where there is none. */
export function versionIn(folder: string): string | null {
  try {
    return (JSON.parse(readFileSync(join(folder, 'package.json'), 'utf8')) as { version?: string }).version ?? null;
  } catch {
    return null;
  }
}

/** A folder that nobody else looks after: the new one takes its place, and it waits beside it. */
class PlainProgram implements ProgramFolder {
  private readonly before: string;
  private readonly ready: string;

  constructor(
    private readonly home: string,
    work: string,
  ) {
    this.before = join(work, 'before');
    this.ready = join(work, 'new');
  }

  async prepare({ folder, needs }: ProgramPackage): Promise<string> {
    try {
      rmSync(this.ready, { recursive: true, force: true });
      renameSync(folder, this.ready);
      if (!existsSync(join(this.ready, 'node_modules'))) await this.provide(needs);
      return this.ready;
    } catch (error) {
      if (error instanceof StoreError) throw error;
      throw new StoreError(`The new program cannot be prepared beside ${this.home}: ${reasonOf(error)}.`);
    }
  }

  /** What it needs from npm: as here, where that is the same; else from npm, whose packages run no script, since this is root. */
  private async provide(needs: Record<string, string>): Promise<void> {
    const here = existsSync(this.home) ? this.home : this.before;
    const own = JSON.parse(readFileSync(join(here, 'package.json'), 'utf8')) as { dependencies?: Record<string, string> };
    const has = join(here, 'node_modules');
    if (sameNeeds(own.dependencies ?? {}, needs) && existsSync(has)) {
      cpSync(has, join(this.ready, 'node_modules'), { recursive: true, verbatimSymlinks: true });
      return;
    }
    try {
      await run('npm', ['install', '--omit=dev', '--no-audit', '--no-fund', '--ignore-scripts'], {
        cwd: this.ready,
        maxBuffer: MOST_OUTPUT,
      });
    } catch (error) {
      throw new StoreError(`npm could not provide what the new version needs: ${lastLine(error)}. A .deb includes everything.`);
    }
    takeCompiled(has, join(this.ready, 'node_modules'));
  }

  async put({ version }: ProgramPackage): Promise<void> {
    const { home, before, ready } = this;
    // It was put there already, and what came after that was cut off.
    if (versionIn(home) === version) return;
    try {
      if (existsSync(home)) {
        rmSync(before, { recursive: true, force: true });
        renameSync(home, before);
      }
      renameSync(ready, home);
    } catch (error) {
      throw new StoreError(`The program can’t be put into ${home}: ${reasonOf(error)}.`);
    }
  }

  placeOf(from: string): string {
    return versionIn(this.home) === from ? this.home : this.before;
  }

  async back(from: string): Promise<void> {
    const { home, before } = this;
    if (versionIn(home) === from) return;
    if (versionIn(before) !== from) throw new StoreError(`The program of ${from} no longer exists (${before}).`);
    rmSync(home, { recursive: true, force: true });
    renameSync(before, home);
  }
}

/** What has to be compiled is taken from here, where it is of the same version. */
function takeCompiled(here: string, ready: string): void {
  const about = (folder: string): { version?: string } | null => {
    const file = join(folder, 'package.json');
    return existsSync(file) ? (JSON.parse(readFileSync(file, 'utf8')) as { version?: string }) : null;
  };
  for (const name of existsSync(ready) ? readdirSync(ready) : []) {
    if (!existsSync(join(ready, name, 'binding.gyp'))) continue;
    const version = about(join(ready, name))?.version;
    if (about(join(here, name))?.version !== version)
      throw new StoreError(`The new version needs ${name} ${version}, which has to be compiled. A .deb includes everything.`);
    cpSync(join(here, name, 'build'), join(ready, name, 'build'), { recursive: true });
  }
}

const sameNeeds = (one: Record<string, string>, other: Record<string, string>): boolean => {
  const text = (needs: Record<string, string>): string => JSON.stringify(Object.entries(needs).sort());
  return text(one) === text(other);
};

/** What dpkg has installed stays its own: the package before is made again of what lies here. */
class DebianProgram implements ProgramFolder {
  private readonly before: string;
  private readonly root = process.env['DPKG_ROOT'] ?? '';
  private readonly parts: string;

  constructor(
    private readonly home: string,
    work: string,
  ) {
    this.before = join(work, 'before.deb');
    this.parts = join(work, 'before');
  }

  async prepare({ kind, version, folder }: ProgramPackage): Promise<string> {
    if (kind !== 'deb') throw new StoreError('This program was installed by dpkg: give its package, a .deb.');
    if (versionIn(this.home) !== version) await this.packAgain();
    return folder;
  }

  /** A package of what is installed, to go back to. */
  private async packAgain(): Promise<void> {
    const { parts } = this;
    rmSync(parts, { recursive: true, force: true });
    makeFolder(join(parts, 'DEBIAN'), 0o755);
    const { stdout: listed } = await this.ask('dpkg-query', ['--listfiles', 'tenedor']);
    const list = join(parts, 'DEBIAN/list');
    const paths = listed.split('\n').filter((one) => one !== '' && one !== '/.' && existsSync(this.root + one));
    writeFileSync(list, paths.map((one) => `.${one}\n`).join(''));
    const archive = `${this.before}.tar`;
    await this.ask('tar', ['--create', '--no-recursion', '--file', archive, '--directory', `${this.root}/`, '--files-from', list]);
    await this.ask('tar', ['--extract', '--preserve-permissions', '--file', archive, '--directory', parts]);
    for (const path of [list, archive]) rmSync(path);
    const { stdout: control } = await this.ask('dpkg-query', ['--status', 'tenedor']);
    writeFileSync(join(parts, 'DEBIAN/control'), control.replace(/^(Status|Conffiles):.*\n/gm, ''));
    const admin = this.root === '' ? '/var/lib/dpkg' : `${this.root}/var/lib/dpkg`;
    for (const script of ['preinst', 'postinst', 'prerm', 'postrm']) {
      const from = join(admin, 'info', `tenedor.${script}`);
      if (existsSync(from)) cpSync(from, join(parts, 'DEBIAN', script));
    }
    await this.ask('dpkg-deb', ['--root-owner-group', '-Zzstd', '-z1', '--build', parts, this.before]);
  }

  async put(_one: ProgramPackage, file: string): Promise<void> {
    await this.ask('dpkg', ['--install', file]);
  }

  placeOf(from: string): string {
    return versionIn(this.home) === from ? this.home : join(this.parts, this.home.slice(this.root.length));
  }

  async back(_from: string): Promise<void> {
    if (!existsSync(this.before)) throw new StoreError(`The package before no longer exists (${this.before}).`);
    await this.ask('dpkg', ['--force-downgrade', '--install', this.before]);
  }

  private async ask(program: string, values: string[]): Promise<{ stdout: string }> {
    try {
      return await run(program, values, { maxBuffer: MOST_OUTPUT, env: { ...process.env, DEBIAN_FRONTEND: 'noninteractive' } });
    } catch (error) {
      throw new StoreError(`${program} says: ${lastLine(error)}`);
    }
  }
}
