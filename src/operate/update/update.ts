import { existsSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { CommandError, EXIT } from '../../cli/errors.ts';
import { bold, count, dim, progress, say, styled } from '../../cli/output.ts';
import { PROJECT, VERSION } from '../../project.ts';
import { isInUse, StoreError } from '../../store/open-data.ts';
import { healthUrl, watchHealth } from './health.ts';
import { STAGES, type Stage, type UnderWay } from './journal-file.ts';
import { openAndTell, tellChanges, tryOnCopy } from './look-at-package.ts';
import { placesOf } from './parts.ts';
import { requireInstalled } from './program-folder.ts';
import type { ProgramPackage } from './program-package.ts';
import { runPart } from './run-part.ts';
import { bad, good, inWorkshop, shopOf, type UpdateOptions, type Workshop } from './workshop.ts';

/** Looks at a package, and at what it would do to the data, on a copy. The service goes on meanwhile. */
export async function checkUpdate(packageFile: string, options: UpdateOptions): Promise<void> {
  await inWorkshop(options, async (shop) => {
    requireNothingUnderWay(shop);
    const found = await openAndTell(shop, packageFile, options);
    await tryOnCopy(shop, found.folder);
    tellChanges(found.one);
    for (const one of ['unpacked', 'new']) rmSync(join(shop.work, one), { recursive: true, force: true });
    say(`Apply it: tenedor update apply ${packageFile} --config ${options.config}`);
  });
}

/** Puts a package in the place of this program, and goes back by itself when the service does not come up with it. Said again after it was cut off, it goes on. */
export async function applyUpdate(packageFile: string, options: UpdateOptions): Promise<void> {
  await inWorkshop(options, async (shop) => {
    requireInstalled(PROJECT);
    const { journal, manager } = shop;
    const before = journal.underWay();
    if (before?.isGoingBack) return goBack(shop, before, options, 'It was interrupted while rolling back.');
    const found = await openAndTell(shop, packageFile, options, before);
    let state: UnderWay;
    if (before) {
      state = before;
      good(`Continuing where it was interrupted: ${STAGE_WORDS[before.stage]}.`);
    } else {
      // What an update before has kept aside is not of this one.
      rmSync(placesOf(shop.config.data).kept, { recursive: true, force: true });
      const tried = await tryOnCopy(shop, found.folder);
      const { name } = await runPart('backup', { ...shopOf(shop), program: PROJECT });
      if (name === null) say(`  ${styled('yellow', '△')} No backups are configured ([backup] target): only the database is saved.`);
      else good(`Backup: ${name}.`);
      const { sha256, version } = found.one;
      state = {
        ...{ from: VERSION, to: version, sha256, config: shop.file, stage: 'begun', isGoingBack: false },
        ...{ wasUp: await manager.isUp(), databaseBefore: tried.from, databaseAfter: null, backup: name },
      };
      journal.note(state);
    }
    try {
      await stepOn(shop, found.one, packageFile, state, options);
    } catch (error) {
      // Also what nobody has foreseen is no reason to leave a host without its service.
      return goBack(shop, journal.underWay() ?? state, options, error instanceof Error ? error.message : String(error));
    }
    tellChanges(found.one);
    say(
      `${bold(`Tenedor ${state.to}`)} runs. ${dim(`The previous version is kept. To roll back: tenedor update back --config ${options.config}`)}`,
    );
  });
}

const STAGE_WORDS: Record<Stage, string> = {
  begun: 'all was made ready',
  stopped: 'the service was stopped',
  kept: 'the database was kept aside',
  put: 'the new program was in its place',
  opened: 'the database was brought up to date',
};

/** From where it is to its end. Throws StoreError for what goes wrong. */
async function stepOn(shop: Workshop, one: ProgramPackage, packageFile: string, state: UnderWay, options: UpdateOptions): Promise<void> {
  const { manager, journal, program, config } = shop;
  const at = (stage: Stage): boolean => STAGES.indexOf(state.stage) >= STAGES.indexOf(stage);
  const note = (stage: Stage): void => {
    state.stage = stage;
    journal.note(state);
  };
  // Whatever has started it again in between: what is kept aside has to be what it left.
  if (!at('opened') && (await manager.isUp())) await manager.stop();
  if (!at('stopped')) {
    note('stopped');
    good(`The service is stopped (${manager.name}).`);
  }
  if (!at('opened') && (await isStillInUse(config.data)))
    throw new StoreError(`A Tenedor not managed by ${manager.name} is running on ${config.data}.`);
  if (!at('kept')) {
    await runPart('save', { ...shopOf(shop), program: PROJECT });
    note('kept');
    good('Its database is saved.');
  }
  if (!at('put')) {
    await program.put(one, packageFile);
    note('put');
    good(`The program of ${state.to} is installed.`);
  }
  if (!at('opened')) {
    const { databaseVersion, version } = await runPart('open', { ...shopOf(shop), program: PROJECT });
    if (version !== state.to) throw new StoreError(`The installed program is ${version}, not ${state.to}.`);
    state.databaseAfter = databaseVersion;
    note('opened');
    good(databaseVersion === state.databaseBefore ? 'The database opens unchanged.' : `The database has version ${databaseVersion} now.`);
  }
  if (state.wasUp) {
    if (!(await manager.isUp())) await manager.start();
    progress(`Watching it for ${options.watch} s …`);
    const fault = await watchHealth(manager, {
      ...{ url: healthUrl(config), version: state.to, withinMs: options.within * 1000, watchMs: options.watch * 1000 },
    });
    progress('');
    if (fault !== null) throw new StoreError(fault);
    good(`The service is up, and ran without problems for ${options.watch} s.`);
  } else say('  The service was not running, and is not started.');
  const { from, to, backup, databaseBefore, databaseAfter } = state;
  journal.over({ from, to, backup, config: shop.file, databaseBefore, databaseAfter: databaseAfter ?? databaseBefore });
  rmSync(join(shop.work, 'unpacked'), { recursive: true, force: true });
  rmSync(placesOf(config.data).folder, { recursive: true, force: true });
}

/** A part of an update that was cut off may still be at the data: it is given its time. */
const PATIENCE_MS = 30_000;
const LOOK_EVERY_MS = 100;
async function isStillInUse(data: string): Promise<boolean> {
  for (let waited = 0; isInUse(data); waited += LOOK_EVERY_MS) {
    if (waited >= PATIENCE_MS) return true;
    await new Promise((done) => setTimeout(done, LOOK_EVERY_MS));
  }
  return false;
}

/** Puts everything back as it was. Where something has come since that would be lost by it, the data stays as it is. */
async function goBack(shop: Workshop, state: UnderWay, options: UpdateOptions, why: string): Promise<void> {
  const { manager, journal, program, config } = shop;
  bad(why);
  journal.note({ ...state, isGoingBack: true });
  await manager.stop();
  // Whatever is still at the data must not find another one in its place.
  if (await isStillInUse(config.data)) throw new StoreError(`A Tenedor not managed by ${manager.name} is running on ${config.data}.`);
  const isKept = existsSync(join(placesOf(config.data).kept, 'tenedor.db'));
  // What has opened the data is another program; that of before looks at it.
  const mayBeOther = STAGES.indexOf(state.stage) >= STAGES.indexOf('kept');
  const old = { ...shopOf(shop), program: program.placeOf(state.from) };
  if (isKept && mayBeOther) {
    const changed = await runPart('changed', old);
    if (changed.messages + changed.folders > 0) {
      journal.over(null);
      throw new CommandError(
        EXIT.refused,
        `${state.to} accepted mail before it failed (${count(changed.messages, 'message')}, changes in ${count(changed.folders, 'folder')}): rolling back would lose it, so nothing was rolled back.`,
        `See its log. The previous database is in ${placesOf(config.data).kept}.`,
      );
    }
    await runPart('put-back', old);
    good('The database is unchanged.');
  }
  if (mayBeOther) await program.back(state.from);
  good(`The program is ${state.from}.`);
  if (state.wasUp) {
    await manager.start();
    const fault = await watchHealth(manager, {
      ...{ url: healthUrl(config), version: state.from, withinMs: options.within * 1000, watchMs: 0 },
    });
    if (fault !== null) throw new CommandError(EXIT.refused, `${state.from} does not start again: ${fault}`, 'See its log.');
    good(`The service is up with ${state.from}.`);
  }
  journal.over(null);
  rmSync(placesOf(config.data).folder, { recursive: true, force: true });
  say(`${bold('Nothing has changed.')} ${state.to} was not installed: ${why}`);
  process.exitCode = EXIT.notGood;
}

/** Goes back to the version before the last update, as long as it can read the database of today; or ends an update that was cut off. */
export async function updateBack(options: UpdateOptions): Promise<void> {
  await inWorkshop(options, async (shop) => {
    requireInstalled(PROJECT);
    const { journal, manager, program, config } = shop;
    const state = journal.underWay();
    if (state) return goBack(shop, state, options, 'It was interrupted.');
    const last = journal.last();
    if (!last || last.to !== VERSION) throw new StoreError('There is no update to roll back.');
    if (last.databaseAfter !== last.databaseBefore)
      throw new StoreError(
        `${last.to} has updated the database, and ${last.from} can no longer read it.${
          last.backup === null
            ? ''
            : ` The backup ${last.backup} is from before: tenedor restore, into an empty data directory, with ${last.from}.`
        }`,
      );
    const wasUp = await manager.isUp();
    await manager.stop();
    await program.back(last.from);
    journal.forgetLast();
    good(`The program is ${last.from} again.`);
    if (!wasUp) return;
    await manager.start();
    const fault = await watchHealth(manager, {
      ...{ url: healthUrl(config), version: last.from, withinMs: options.within * 1000, watchMs: options.watch * 1000 },
    });
    if (fault !== null) throw new CommandError(EXIT.refused, `${last.from} does not start: ${fault}`, 'See its log.');
    good(`The service is up with ${last.from}.`);
  });
}

function requireNothingUnderWay({ journal }: Workshop): void {
  const state = journal.underWay();
  if (state)
    throw new StoreError(
      `An update to ${state.to} was interrupted when ${STAGE_WORDS[state.stage]}. Continue: tenedor update apply FILE; or roll back: tenedor update back.`,
    );
}
