import { rmSync, statfsSync, statSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { bold, dim, progress, say, size } from '../../cli/output.ts';
import { compareVersions, releasesBetween } from '../../core/updates/versions.ts';
import { PROJECT, VERSION } from '../../project.ts';
import { StoreError } from '../../store/open-data.ts';
import type { UnderWay } from './journal-file.ts';
import { type PartResults, placesOf } from './parts.ts';
import { openPackage, type ProgramPackage } from './program-package.ts';
import { runPart } from './run-part.ts';
import { good, shopOf, type UpdateOptions, type Workshop } from './workshop.ts';

/** Opens a package and says what it is; with `before`, it has to be the one that was begun with. */
export async function openAndTell(
  shop: Workshop,
  packageFile: string,
  options: UpdateOptions,
  before: UnderWay | null = null,
): Promise<{ one: ProgramPackage; folder: string }> {
  progress('Checking the package …');
  const one = await openPackage(packageFile, join(shop.work, 'unpacked'), options.sha256 ?? null);
  progress('');
  if (before && (before.to !== one.version || before.sha256 !== one.sha256))
    throw new StoreError(
      `The interrupted update is to ${before.to}, with another file. Give that one, or go back first: tenedor update back.`,
    );
  const order = compareVersions(one.version, VERSION);
  if (!before && order === 0) throw new StoreError(`${one.version} is already running.`);
  if (!before && order < 0) throw new StoreError(`${one.version} is older than ${VERSION}. To roll back: tenedor update back.`);
  requireRoom(shop, one);
  const folder = await shop.program.prepare(one);
  good(`The package is intact: ${bold(`Tenedor ${one.version}`)}, replacing ${VERSION}. ${dim(`SHA-256 ${one.sha256}`)}`);
  return { one, folder };
}

/** The database is copied twice, and may be written anew by its migration. */
function requireRoom({ config, work }: Workshop, { folder }: ProgramPackage): void {
  const octets = statSync(join(config.data, 'tenedor.db')).size;
  const has = (place: string): number => {
    const { bavail, bsize } = statfsSync(place);
    return bavail * bsize;
  };
  const needed = 4 * octets;
  if (has(dirname(config.data)) < needed)
    throw new StoreError(`The update needs ${size(needed)} beside ${config.data}, and ${size(has(dirname(config.data)))} are free.`);
  if (has(work) < PROGRAM_OCTETS) throw new StoreError(`The update needs ${size(PROGRAM_OCTETS)} in ${dirname(folder)}.`);
}

/** What a program with all that it needs takes at most. */
const PROGRAM_OCTETS = 500 * 1024 * 1024;

/** What the new program would do to the data, and how long that takes. */
export async function tryOnCopy(shop: Workshop, folder: string): Promise<{ from: number }> {
  progress('Trying it on a copy of the database …');
  let result: PartResults['try-copy'];
  let octets: number;
  try {
    ({ octets } = await runPart('copy', { ...shopOf(shop), program: PROJECT }));
    result = await runPart('try-copy', { ...shopOf(shop), program: folder });
  } finally {
    rmSync(placesOf(shop.config.data).copy, { recursive: true, force: true });
    progress('');
  }
  const { from, to, ms, lost = [] } = result;
  if (lost.length > 0)
    throw new StoreError(`The new version would delete stored data: ${lost.map(({ rows, what }) => `${rows} of ${what}`).join(', ')}.`);
  good(
    from === to
      ? `On a copy of the database (${size(octets)}) no changes are needed.`
      : `A copy of the database (${size(octets)}) was brought from version ${from} to ${to} in ${secondsText(ms)}. The service will be down for this time and a few seconds.`,
  );
  return { from };
}

const secondsText = (ms: number): string => (ms < 950 ? 'less than a second' : `${Math.round(ms / 1000)} s`);

export function tellChanges({ changes, version }: ProgramPackage): void {
  for (const release of releasesBetween(changes, VERSION, version)) {
    say(`\n${bold(`What ${release.version} brings`)}`);
    for (const { title, items } of release.groups) {
      say(`  ${title}`);
      for (const item of items) say(`    - ${item.replaceAll('*', '')}`);
    }
  }
  say();
}
