import { statSync } from 'node:fs';
import { join } from 'node:path';
import { CommandError, EXIT } from '../cli/errors.ts';
import type { HostBackups, HostStatus } from '../cli/on-host.ts';
import { backupSettingsOf } from '../compose/backup-settings.ts';
import { diskSpaceOf } from '../net/disk-space.ts';
import { VERSION } from '../project.ts';
import type { Config } from '../service/app/config.ts';
import { backupState } from '../service/backups/backup-state.ts';
import { Space } from '../service/base/space.ts';
import { backupAttention, lostAttention, moveAttention, spaceAttention, transferAttention } from '../service/overview/machine-attention.ts';
import { newestEntryAt } from '../store/journeys.ts';
import { MIGRATIONS } from '../store/migrations.ts';
import { isInUse, reasonOf } from '../store/open-data.ts';
import { countDelayed, countDomains, countMailboxes, countWaiting } from '../store/overview.ts';
import { countHeld } from '../store/queue.ts';
import { DATABASE_FILE, ReadDatabase } from '../store/read-database.ts';
import { runUnderWay } from '../store/upkeep-runs.ts';
import { readConfig } from './read-config.ts';

/** What a host's operator can see without a sign-in, and while the service is down: whoever may read the data directory needs no leave of the service. */

export async function statusOnHost(file: string): Promise<HostStatus> {
  return reading(file, async (config, db, isRunning) => {
    const clock = { now: Date.now };
    const space = new Space(() => diskSpaceOf(config.data), { info() {}, warn() {}, error() {} });
    await space.look();
    const [domains, mailboxes, queued, delayed] = await Promise.all([
      countDomains(db),
      countMailboxes(db),
      countWaiting(db),
      countDelayed(db),
    ]);
    return {
      host: config.host.name,
      version: VERSION,
      data: config.data,
      isRunning,
      lastEntryAt: newestEntryAt(db),
      freeBytes: space.free,
      counts: { domains, mailboxes, queued, delayed, held: countHeld(db) },
      attention: [
        ...spaceAttention({ space }),
        ...backupAttention(backupState(db, backupSettingsOf(config), clock.now(), null)),
        ...transferAttention({ db, clock }),
        ...moveAttention({ db }),
        ...lostAttention({ db }),
      ],
    };
  });
}

export async function backupStateOnHost(file: string): Promise<HostBackups> {
  return reading(file, async (config, db, isRunning) => {
    const state = backupState(db, backupSettingsOf(config), Date.now(), null);
    // What a service that is down had begun has come to nothing.
    const begun = isRunning ? runUnderWay(db) : undefined;
    return { ...state, host: config.host.name, isRunning, underWay: begun ? { ...begun, done: 0, total: 0 } : null };
  });
}

/** Reads the data directory of a configuration as the user whose it is, so that no file comes into it that the service can't open. */
async function reading<T>(file: string, look: (config: Config, db: ReadDatabase, isRunning: boolean) => Promise<T>): Promise<T> {
  const config = readConfig(file);
  const { data } = config;
  let db: ReadDatabase | null = null;
  try {
    becomeOwner(data);
    db = ReadDatabase.open(join(data, DATABASE_FILE));
    const version = db.version();
    if (version !== MIGRATIONS.length)
      throw new CommandError(
        EXIT.refused,
        `The database in ${data} has version ${version}, and this program reads version ${MIGRATIONS.length}.`,
        version > MIGRATIONS.length ? 'Use the program that wrote it.' : 'The service brings it up to date when it starts.',
      );
    return await look(config, db, isInUse(data));
  } catch (error) {
    if (error instanceof CommandError) throw error;
    throw new CommandError(
      EXIT.refused,
      `The data directory ${data} can’t be read: ${reasonOf(error)}.`,
      'Run this as root, or as the user of the service.',
    );
  } finally {
    db?.close();
  }
}

function becomeOwner(data: string): void {
  const { uid, gid } = statSync(data);
  if (process.getuid?.() !== 0 || uid === 0) return;
  process.setgroups?.([gid]);
  process.setgid?.(gid);
  process.setuid?.(uid);
}
