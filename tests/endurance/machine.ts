import { type ChildProcess, execFileSync, spawn, spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { createSocket } from 'node:dgram';
import { once } from 'node:events';
import { closeSync, mkdirSync, openSync, readFileSync, rmSync, writeSync } from 'node:fs';
import { join } from 'node:path';

export const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));

/** What a message's text is known by, on its way out and back. */
export const digestOf = (text: string): string => createHash('sha256').update(text).digest('hex').slice(0, 16);

/** A small disk in memory, which can be filled. Needs root. */
export class SmallDisk {
  private readonly filler: string;

  constructor(
    readonly folder: string,
    mib: number,
  ) {
    this.filler = join(folder, 'filler');
    // What a run that was broken off has left.
    spawnSync('umount', ['-l', folder]);
    rmSync(folder, { recursive: true, force: true });
    mkdirSync(folder, { recursive: true });
    execFileSync('mount', ['-t', 'tmpfs', '-o', `size=${mib}m`, 'tmpfs', folder]);
  }

  /** Takes the last octet. */
  fill(): void {
    const file = openSync(this.filler, 'a');
    const zeros = Buffer.alloc(1024 * 1024);
    try {
      for (let size = zeros.length; size > 0; size = Math.floor(size / 2)) {
        try {
          for (;;) writeSync(file, zeros.subarray(0, size));
        } catch {
          // Smaller pieces may still fit.
        }
      }
    } finally {
      closeSync(file);
    }
  }

  free(): void {
    rmSync(this.filler, { force: true });
  }

  remove(): void {
    execFileSync('umount', ['-l', this.folder]);
    rmSync(this.folder, { recursive: true, force: true });
  }
}

/** A resolver that is there and never answers. */
export async function deadResolver(): Promise<{ port: number; close: () => void }> {
  const socket = createSocket('udp4');
  socket.bind(0, '127.0.0.1');
  await once(socket, 'listening');
  return { port: socket.address().port, close: () => socket.close() };
}

export interface Ended {
  code: number | null;
  signal: string | null;
}

/** The built service with a small heap, as a process that is killed and comes again. */
export class Served {
  private child: ChildProcess | null = null;
  private expected = false;
  isUp = false;
  kills = 0;
  /** When it last came up, by the steady clock. */
  upSince = Number.NEGATIVE_INFINITY;
  accessKills = 0;
  accessKilledAt = Number.NEGATIVE_INFINITY;
  /** How it ended when nobody had killed it. */
  readonly unexpected: Ended[] = [];
  /** The most memory that it and what serves mailboxes ever held together, in MiB, without files that are mapped. */
  mostMib = 0;
  /** Lines of its log that are errors or worse, by what they say. */
  readonly errors = new Map<string, number>();

  constructor(
    private readonly program: string,
    private readonly config: string,
    private readonly heapMib: number,
  ) {}

  /** Resolves when it says that it is up. */
  async start(): Promise<void> {
    const child = spawn(process.execPath, [`--max-old-space-size=${this.heapMib}`, this.program, 'serve', '--config', this.config], {
      stdio: ['ignore', 'pipe', 'pipe'],
    });
    this.child = child;
    const withUs = (): boolean => child.kill('SIGKILL');
    process.once('exit', withUs);
    child.once('exit', () => process.off('exit', withUs));
    this.expected = false;
    let rest = '';
    let last = '';
    await new Promise<void>((resolve, reject) => {
      const onLine = (line: string): void => {
        last = line || last;
        if (line.includes('service is up')) {
          this.isUp = true;
          this.upSince = performance.now();
          resolve();
        }
        let entry: { level?: number | string; msg?: string; fault?: string };
        try {
          entry = JSON.parse(line);
        } catch {
          return;
        }
        if (entry.level === 'error' || entry.level === 'fatal' || Number(entry.level) >= 50) {
          const said = `${entry.msg ?? ''}${entry.fault ? `: ${entry.fault.slice(0, 120)}` : ''}`;
          this.errors.set(said, (this.errors.get(said) ?? 0) + 1);
        }
      };
      for (const stream of [child.stdout, child.stderr])
        stream?.on('data', (octets: Buffer) => {
          rest += octets.toString();
          const lines = rest.split('\n');
          rest = lines.pop() ?? '';
          for (const line of lines) onLine(line);
        });
      child.on('exit', (code, signal) => {
        this.isUp = false;
        if (!this.expected) this.unexpected.push({ code, signal });
        reject(new Error(`The service did not start: ${last}`));
      });
    });
  }

  /** Notes how much memory it has at most used so far. */
  measure(): void {
    const pid = this.child?.pid;
    if (pid === undefined || !this.isUp) return;
    try {
      const children = readFileSync(`/proc/${pid}/task/${pid}/children`, 'utf8').split(' ').filter(Boolean);
      const kib = [String(pid), ...children].map((one) =>
        Number(/^RssAnon:\s+(\d+) kB/m.exec(readFileSync(`/proc/${one}/status`, 'utf8'))?.[1] ?? 0),
      );
      this.mostMib = Math.max(this.mostMib, Math.round(kib.reduce((sum, one) => sum + one, 0) / 1024));
    } catch {
      // It has just ended.
    }
  }

  /** Kills a process that serves IMAP and POP3; the service starts another one. */
  killAccess(): void {
    const pid = this.child?.pid;
    if (pid === undefined || !this.isUp) return;
    try {
      const children = readFileSync(`/proc/${pid}/task/${pid}/children`, 'utf8').split(' ').filter(Boolean);
      const access = children.find((one) => readFileSync(`/proc/${one}/cmdline`, 'utf8').includes('access-process'));
      if (access === undefined) return;
      process.kill(Number(access), 'SIGKILL');
      this.accessKills += 1;
      this.accessKilledAt = performance.now();
    } catch {
      // It has just ended.
    }
  }

  async end(signal: 'SIGKILL' | 'SIGTERM'): Promise<Ended> {
    const { child } = this;
    if (!child || child.exitCode !== null || child.signalCode !== null) return { code: null, signal: null };
    this.measure();
    this.expected = true;
    this.isUp = false;
    if (signal === 'SIGKILL') this.kills += 1;
    child.kill(signal);
    const [code, by] = await once(child, 'exit');
    return { code, signal: by };
  }
}
