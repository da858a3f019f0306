import { type ChildProcess, execFile, spawn } from 'node:child_process';
import { openSync, readdirSync, readFileSync, readlinkSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { promisify } from 'node:util';
import { StoreError } from '../../store/open-data.ts';

const run = promisify(execFile);
const wait = (ms: number): Promise<void> => new Promise((done) => setTimeout(done, ms));

/** How the service is stopped and started. */
export interface ServiceManager {
  /** As people call it. */
  readonly name: string;
  isUp(): Promise<boolean>;
  stop(): Promise<void>;
  start(): Promise<void>;
}

const UNIT = 'tenedor.service';
/** What is under way gets its time at a stop, and more. */
const STOP_MS = 30_000;
const TOLD_EVERY_MS = 1000;

/** systemd where it knows the unit; else the process itself. */
export async function serviceManager(home: string, config: string, log: string): Promise<ServiceManager> {
  try {
    await run('systemctl', ['cat', UNIT]);
    return new Systemd();
  } catch {
    return new ByHand(home, resolve(config), log);
  }
}

class Systemd implements ServiceManager {
  readonly name = 'systemd';

  async isUp(): Promise<boolean> {
    try {
      await run('systemctl', ['is-active', '--quiet', UNIT]);
      return true;
    } catch {
      return false;
    }
  }

  stop(): Promise<void> {
    return this.ask('stop');
  }

  async start(): Promise<void> {
    // What failed a few times in a row is not started any more, unless that is forgotten.
    await run('systemctl', ['reset-failed', UNIT]).catch(() => {});
    // It resolves when the service has said that it is ready.
    await this.ask('start');
  }

  private async ask(what: 'stop' | 'start'): Promise<void> {
    try {
      await run('systemctl', [what, UNIT]);
    } catch (error) {
      const said = (error as { stderr?: string }).stderr?.trim().split('\n')[0] ?? String(error);
      throw new StoreError(`systemctl ${what} says: ${said.slice(0, 300)}`);
    }
  }
}

/** Where nobody looks after it: the process that was started with that configuration. */
class ByHand implements ServiceManager {
  readonly name = 'the process itself';
  /** Started here: it is not yet what it will be. */
  private started: ChildProcess | null = null;

  constructor(
    private readonly home: string,
    private readonly config: string,
    private readonly log: string,
  ) {}

  async isUp(): Promise<boolean> {
    return this.processes().length > 0 || this.isStarting();
  }

  private isStarting(): boolean {
    return this.started !== null && this.started.exitCode === null && this.started.signalCode === null;
  }

  async stop(): Promise<void> {
    // One that has just been started may not be listening to signals: it is told again.
    for (let waited = 0; await this.isUp(); waited += 50) {
      if (waited % TOLD_EVERY_MS === 0) this.tell(waited > STOP_MS ? 'SIGKILL' : 'SIGTERM');
      await wait(50);
    }
    this.started = null;
  }

  private tell(signal: NodeJS.Signals): void {
    const own = this.isStarting() ? [this.started?.pid ?? 0] : [];
    for (const pid of new Set([...own, ...this.processes()])) {
      try {
        if (pid > 0) process.kill(pid, signal);
      } catch (error) {
        // It has ended in between.
        if ((error as { code?: string }).code !== 'ESRCH') throw error;
      }
    }
  }

  async start(): Promise<void> {
    const log = openSync(this.log, 'a', 0o600);
    const child = spawn(join(this.home, 'tenedor'), ['serve', '--config', this.config], { detached: true, stdio: ['ignore', log, log] });
    await new Promise<void>((done, failed) => {
      child.once('spawn', done);
      child.once('error', (error) => failed(new StoreError(`The service can’t be started: ${error.message}.`)));
    });
    child.unref();
    this.started = child;
  }

  private processes(): number[] {
    return readdirSync('/proc')
      .filter((name) => /^\d+$/.test(name))
      .map(Number)
      .filter((pid) => pid !== process.pid && this.serves(pid));
  }

  private serves(pid: number): boolean {
    try {
      const words = readFileSync(`/proc/${pid}/cmdline`, 'utf8').split('\0');
      const at = words.findIndex((word) => word.endsWith('/tenedor.mjs'));
      if (at < 0 || words[at + 1] !== 'serve') return false;
      const file = words[words.indexOf('--config') + 1] ?? '';
      // A process that has ended and was not fetched yet is none.
      const isDead = /^State:\s+Z/m.test(readFileSync(`/proc/${pid}/status`, 'utf8'));
      return !isDead && resolve(readlinkSync(`/proc/${pid}/cwd`), file) === this.config;
    } catch {
      return false;
    }
  }
}
