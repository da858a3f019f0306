import type { Worker } from 'node:cluster';
import type { AccessPortSettings } from '../access/access-house.ts';
import type { CertificateChange } from '../core/certificates/shown.ts';
import type { ToAccess, ToService } from '../core/mailbox/access-messages.ts';
import { ListenError } from '../net/listener.ts';
import type { Log } from '../service/base/ports.ts';
import { faultText } from '../service/base/problem.ts';
import type { AccessDesk } from '../service/mailbox/access-desk.ts';
import type { AccessForks } from './access-forks.ts';
import type { AccessSide } from './access-side.ts';

/** A process that dies at once, again and again, is not started more often than that. */
const PAUSE_MS = 1000;

type Begin = Omit<Extract<ToAccess, { kind: 'begin' }>, 'kind' | 'certificates'>;

interface Settings {
  /** What runs the program of an access process, as many as there are to be. */
  forks: AccessForks;
  begin: Begin;
  /** All that are shown now. */
  certificates: () => CertificateChange;
  desk: AccessDesk;
  log: Log;
  /** How many conversations are open on a port, in all processes. */
  onCount: (service: AccessPortSettings['service'], open: number) => void;
}

/** What is known of one process. */
interface AccessProcess {
  worker: Worker;
  counts: Map<AccessPortSettings['service'], number>;
  calls: Map<number, { resolve: (port: number) => void; reject: (error: Error) => void }>;
  desk: ReturnType<AccessDesk['open']>;
  isReady: Promise<void>;
}

/**
 * The processes that speak to mail programs: children of the service which share its listening sockets. One that dies takes its own conversations with
 * it, and is started again; nobody waits for one that is slow.
 */
export class AccessProcesses implements AccessSide {
  private readonly running = new Map<number, AccessProcess>();
  private readonly ports: AccessPortSettings[] = [];
  private calls = 0;
  private isStopping = false;

  constructor(private readonly settings: Settings) {
    for (let at = 0; at < settings.forks.count; at += 1) this.start();
  }

  get processes(): { pid: number; open: number }[] {
    return [...this.running.values()].map(({ worker, counts }) => ({
      pid: worker.process.pid ?? 0,
      open: [...counts.values()].reduce((sum, one) => sum + one, 0),
    }));
  }

  /** Each process has the port; resolves with its number when all of them listen. */
  async listen(port: AccessPortSettings): Promise<number> {
    this.ports.push(port);
    // Where any port would do, Node gives all of them the same, by the order in which they ask.
    const numbers = await Promise.all([...this.running.values()].map((one) => this.ask(one, port)));
    const [number] = numbers;
    if (number === undefined) throw new ListenError('No access process is running.');
    return number;
  }

  /** Other certificates are shown from the next connection on. */
  certificatesChanged(change: CertificateChange): void {
    for (const one of this.running.values()) this.tell(one, { kind: 'certificates', change });
  }

  connectionsChanged(perAddress: number): void {
    // Those that start later are told with their ports.
    for (const port of this.ports) port.mostPerAddress = perAddress;
    for (const one of this.running.values()) this.tell(one, { kind: 'connections', perAddress });
  }

  stopAccepting(): void {
    this.isStopping = true;
    for (const one of this.running.values()) this.tell(one, { kind: 'stop' });
  }

  async quiet(): Promise<void> {
    while (this.running.size > 0) await new Promise((resolve) => setTimeout(resolve, 20));
  }

  destroyAll(): void {
    for (const { worker } of this.running.values()) worker.process.kill('SIGKILL');
  }

  private start(): AccessProcess {
    const { begin, certificates, desk, log, forks } = this.settings;
    const { worker, isUp } = forks.take();
    const isReady = isUp.then(() => this.tell(one, { kind: 'begin', ...begin, certificates: certificates() }));
    // One that ends is told of below.
    isReady.catch(() => {});
    const one: AccessProcess = {
      worker,
      counts: new Map(),
      calls: new Map(),
      isReady,
      desk: desk.open({
        changed: (folders) => this.tell(one, { kind: 'changed', folders }),
        arrived: (texts) => this.tell(one, { kind: 'arrived', texts }),
        // One that has not begun yet would not know it afterwards.
        index: (folders) => {
          isReady.then(() => this.tell(one, { kind: 'index', folders })).catch(() => {});
        },
        // As for the index: it may not have begun yet.
        read: (call, text, at) => {
          isReady.then(() => this.tell(one, { kind: 'read', call, text, at })).catch(() => {});
        },
        end: (session) => this.tell(one, { kind: 'end', session }),
      }),
    };
    this.running.set(worker.id, one);
    const startedAt = performance.now();
    worker.on('message', (message: ToService) => {
      if (message.kind !== 'ready') this.hear(one, message);
    });
    worker.on('error', (error) => log.error({ fault: faultText(error) }, 'the channel to an access process failed'));
    const ended = (code: number, signal: string): void => this.ended(one, { code, signal, startedAt });
    // It may have ended before anybody looked.
    if (worker.isDead()) setImmediate(ended, worker.process.exitCode ?? 0, worker.process.signalCode ?? '');
    else worker.on('exit', ended);
    return one;
  }

  private ended(one: AccessProcess, { code, signal, startedAt }: { code: number; signal: string; startedAt: number }): void {
    this.running.delete(one.worker.id);
    one.desk.close();
    for (const { reject } of one.calls.values()) reject(new ListenError('An access process ended before it could listen.'));
    for (const service of one.counts.keys()) this.countAll(service);
    if (this.isStopping) return;
    this.settings.log.error({ code, signal }, 'an access process has ended and is restarted');
    const pause = performance.now() - startedAt < PAUSE_MS ? PAUSE_MS : 0;
    setTimeout(() => {
      if (this.isStopping) return;
      this.listenAgain(this.start()).catch((error: unknown) => {
        if (!this.isStopping) this.settings.log.error({ fault: faultText(error) }, 'an access process can’t listen');
      });
    }, pause);
  }

  /** One port after the other, in the order of the first time: where any port would do, Node knows them by their order. */
  private async listenAgain(one: AccessProcess): Promise<void> {
    for (const port of this.ports) await this.ask(one, port);
  }

  private async ask(one: AccessProcess, port: AccessPortSettings): Promise<number> {
    await one.isReady.catch(() => {
      throw new ListenError('An access process ended before it could listen.');
    });
    this.calls += 1;
    const call = this.calls;
    return new Promise((resolve, reject) => {
      one.calls.set(call, { resolve, reject });
      this.tell(one, { kind: 'listen', call, port });
    });
  }

  private tell({ worker }: AccessProcess, message: ToAccess): void {
    // One that is gone needs to be told nothing; that it is gone is heard by `exit`.
    if (worker.isConnected()) worker.send(message, undefined, () => {});
  }

  private hear(one: AccessProcess, message: Exclude<ToService, { kind: 'ready' }>): void {
    const { port } = one.desk;
    switch (message.kind) {
      case 'listening':
        one.calls.get(message.call)?.resolve(message.port);
        one.calls.delete(message.call);
        return;
      case 'not-listening':
        one.calls.get(message.call)?.reject(new ListenError(message.reason));
        one.calls.delete(message.call);
        return;
      case 'sign-in':
        return this.answer(one, message.call, port.signIn(message.question));
      case 'operate':
        return this.answer(one, message.call, port.operate(message.session, message.operation));
      case 'leave':
        return port.leave(message.session);
      case 'program':
        return port.program(message.session, message.name);
      case 'outlines':
        return port.keepOutlines(message.some);
      case 'was-read':
        return port.wasRead(message.call, message.reading);
      case 'text-lost':
        return port.textLost(message.session, message.file, message.how);
      case 'in-clear':
        return port.signInInClear(message.service, message.clientAddress, message.user);
      case 'tls-failed':
        return port.tlsFailed(message.service, message.clientAddress, message.reason);
      case 'count':
        one.counts.set(message.service, message.open);
        return this.countAll(message.service);
      case 'log':
        return this.settings.log[message.level]({ ...message.data, process: one.worker.process.pid }, message.text);
    }
  }

  private answer(one: AccessProcess, call: number, work: Promise<Extract<ToAccess, { kind: 'answer' }>['value']>): void {
    work.then(
      (value) => this.tell(one, { kind: 'answer', call, value }),
      (error: unknown) => {
        this.settings.log.error({ fault: faultText(error) }, 'a request of an access process failed');
        this.tell(one, { kind: 'answer', call, value: { kind: 'busy' } });
      },
    );
  }

  private countAll(service: AccessPortSettings['service']): void {
    let open = 0;
    for (const { counts } of this.running.values()) open += counts.get(service) ?? 0;
    this.settings.onCount(service, open);
  }
}
