import type { Logger } from 'pino';
import { type Config, ConfigError } from '../service/app/config.ts';
import { configChanges } from '../service/app/config-changes.ts';
import type { ServiceContext } from '../service/app/context.ts';
import { Problem } from '../service/base/problem.ts';
import type { LiveConfiguration, SettingChange } from '../service/overview/deps.ts';
import { addEntry } from '../store/journeys.ts';
import { reasonOf } from '../store/open-data.ts';
import type { AccessSide } from './access-side.ts';
import { backupSettingsOf } from './backup-settings.ts';

/** The configuration as it runs, and as its file says now. */
export class LiveConfig implements LiveConfiguration {
  constructor(
    private running: Config,
    private readonly log: Logger,
    private readonly context: ServiceContext,
    /** Reads the file; null where there is none. Throws ConfigError. */
    private readonly readFile: (() => Config) | null,
    private readonly access: Pick<AccessSide, 'connectionsChanged'>,
  ) {}

  /** What is different in the file. */
  changes(): SettingChange[] {
    return configChanges(this.running, this.read());
  }

  /** Takes over what can change while the service runs; the rest waits for a restart. Certificates are looked at, too. */
  async reload(): Promise<SettingChange[]> {
    // A renewed certificate does not wait for somebody to mend the file.
    await this.context.certificates.lookAtFiles();
    const next = this.read();
    const changes = configChanges(this.running, next);
    const live = changes.filter((one) => one.isLive);
    const { dns, log, backup } = next;
    // Those who hold these lists see what is in them now.
    this.running.dns.resolvers.splice(0, Number.POSITIVE_INFINITY, ...dns.resolvers);
    Object.assign(this.context.host, { blockLists: dns.block_lists, refuseListed: dns.refuse_listed });
    Object.assign(this.context.backupSettings, backupSettingsOf({ ...this.running, backup }));
    this.running.connections.per_address = next.connections.per_address;
    this.access.connectionsChanged(next.connections.per_address);
    this.log.level = log.level;
    this.running = {
      ...this.running,
      log,
      backup,
      dns: { ...this.running.dns, block_lists: dns.block_lists, refuse_listed: dns.refuse_listed },
    };
    if (live.some((one) => one.key === 'dns.resolvers')) this.context.dns.forget();
    if (live.length > 0) {
      const { db, clock } = this.context;
      await db.commit(() =>
        addEntry(db, {
          at: clock.now(),
          journeyId: null,
          domain: null,
          event: 'settings-taken-over',
          data: { keys: live.map((one) => one.key), waiting: changes.length - live.length },
        }),
      );
    }
    this.log.info(
      { applied: live.map((one) => one.key), waiting: changes.filter((one) => !one.isLive).map((one) => one.key) },
      'the configuration was read again',
    );
    return changes;
  }

  private read(): Config {
    if (!this.readFile)
      throw new Problem('not-set-up', 'The service was not started from a file.', 'Start it with: tenedor serve --config FILE');
    try {
      return this.readFile();
    } catch (error) {
      const fault = error instanceof ConfigError ? error.message : `The configuration file can’t be read: ${reasonOf(error)}.`;
      throw new Problem('not-set-up', `${fault} Nothing was applied.`, 'List all errors: tenedor config check --config FILE');
    }
  }
}
