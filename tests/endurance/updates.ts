import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdirSync, writeFileSync } from 'node:fs';
import { createServer, type Server } from 'node:http';
import { join } from 'node:path';
import { install, packageOf } from '../support/packages.ts';
import { pause, type Served } from './machine.ts';

/** What looks after the service, as systemd does: one thing after the other, and what was stopped on purpose stays so. */
export class Supervisor {
  private last: Promise<unknown> = Promise.resolve();
  private isStopped = false;
  private readonly server: Server;
  /** Where its `systemctl` lies. */
  readonly bin: string;

  private constructor(
    private readonly served: Served,
    folder: string,
    /** Makes room on the disk: with none a start may be refused. */
    private readonly makeRoom: () => void,
  ) {
    this.bin = join(folder, 'bin');
    this.server = createServer((request, response) => {
      this.answer(request.url ?? '').then(
        () => response.writeHead(200).end(),
        (error: Error) => response.writeHead(503).end(error.message),
      );
    });
  }

  static async open(served: Served, folder: string, makeRoom: () => void): Promise<Supervisor> {
    const supervisor = new Supervisor(served, folder, makeRoom);
    supervisor.server.listen(0, '127.0.0.1');
    await once(supervisor.server, 'listening');
    const { port } = supervisor.server.address() as { port: number };
    mkdirSync(supervisor.bin);
    writeFileSync(
      join(supervisor.bin, 'systemctl'),
      `#!/bin/sh\ncase "$1" in is-active|stop|start) exec curl -fsS "http://127.0.0.1:${port}/$1";; esac\n`,
      { mode: 0o755 },
    );
    return supervisor;
  }

  /** Kills the service, unless somebody has stopped it, and starts it again until it is up. */
  kill(): Promise<void> {
    return this.inTurn(async () => {
      if (this.isStopped) return;
      await this.served.end('SIGKILL');
      await this.startUntilUp();
    });
  }

  /** Whatever came before. */
  bringUp(): Promise<void> {
    return this.inTurn(async () => {
      if (!this.served.isUp) await this.startUntilUp();
    });
  }

  close(): void {
    this.server.close();
  }

  private answer(path: string): Promise<void> {
    return this.inTurn(async () => {
      if (path === '/is-active') {
        if (!this.served.isUp) throw new Error('inactive');
      } else if (path === '/stop') {
        this.isStopped = true;
        await this.served.end('SIGTERM');
      } else if (!this.served.isUp) await this.start();
    });
  }

  private async start(): Promise<void> {
    this.isStopped = false;
    try {
      await this.served.start();
    } catch (error) {
      // A start that is refused with a word is no end that nobody knows of.
      this.served.unexpected.pop();
      throw error;
    }
  }

  private async startUntilUp(): Promise<void> {
    for (;;) {
      try {
        return await this.start();
      } catch {
        this.makeRoom();
        await pause(500);
      }
    }
  }

  private inTurn<Result>(work: () => Promise<Result>): Promise<Result> {
    const done = this.last.then(work);
    this.last = done.catch(() => {});
    return done;
  }
}

/** Updates of the installed program, some of them cut off and said again, and now and then one back. */
export class Updates {
  done = 0;
  cutOff = 0;
  wentBack = 0;
  /** Those that were refused, by why. */
  readonly refused = new Map<string, number>();
  /** What must not be. */
  readonly wrong: string[] = [];
  private begun = 0;
  private underWay: Promise<void> | null = null;
  private readonly packages: string[];
  readonly home: string;

  /** Lays the program out in a folder, and makes so many packages of later versions. */
  constructor(
    folder: string,
    private readonly config: string,
    count: number,
  ) {
    this.home = join(folder, 'lib/tenedor');
    install(this.home, '0.9.0');
    this.packages = Array.from({ length: count }, (_none, at) => packageOf(folder, `0.9.${at + 1}`));
  }

  /** Begins the next one, where none is under way. */
  begin(supervisor: Supervisor): void {
    const next = this.packages[0];
    if (this.underWay || next === undefined) return;
    this.begun += 1;
    const words = this.begun % 3 === 0 ? ['back'] : ['apply', next];
    const cutAfter = this.begun % 2 === 0 ? 1000 + ((this.begun * 1700) % 5000) : null;
    this.underWay = this.run(words, supervisor, cutAfter)
      .catch((error: unknown) => void this.wrong.push(`an update: ${String(error)}`))
      .finally(() => {
        this.underWay = null;
      });
  }

  async over(): Promise<void> {
    await this.underWay;
  }

  private async run(words: string[], supervisor: Supervisor, cutAfter: number | null): Promise<void> {
    const first = await this.say(words, supervisor, cutAfter);
    const { code, complaint } = first.code === null ? await this.say(words, supervisor, null) : first;
    // What it leaves stopped is started, as somebody would.
    await supervisor.bringUp();
    if (code === 0) this.done += 1;
    else if (code === 1) this.wentBack += 1;
    else if (code === 3) {
      const why = complaint.slice(0, 160);
      this.refused.set(why, (this.refused.get(why) ?? 0) + 1);
    } else this.wrong.push(`an update (${words[0]}) ended with ${code}: ${complaint}`);
    if (code === 0 && words[0] === 'apply') this.packages.shift();
  }

  private async say(words: string[], supervisor: Supervisor, cutAfter: number | null): Promise<{ code: number | null; complaint: string }> {
    const child = spawn(`${this.home}/tenedor`, ['update', ...words, '--config', this.config, '--watch', '2', '--within', '20'], {
      stdio: ['ignore', 'ignore', 'pipe'],
      env: { ...process.env, PATH: `${supervisor.bin}:${process.env['PATH']}` },
    });
    let said = '';
    child.stderr.on('data', (octets) => {
      said += octets;
    });
    const timer = cutAfter === null ? null : setTimeout(() => child.kill('SIGKILL'), cutAfter);
    const [code] = (await once(child, 'exit')) as [number | null];
    if (timer) clearTimeout(timer);
    if (code === null) this.cutOff += 1;
    return { code, complaint: said.trim().split('\n')[0] ?? '' };
  }
}
