import { connect, type Socket } from 'node:net';
import { Worker } from 'node:worker_threads';

/** Listens, and then stands still: nobody takes what comes. */
const STANDS_STILL = `
  const { createServer } = require('node:net');
  const { parentPort } = require('node:worker_threads');
  const server = createServer().listen({ port: 0, host: '127.0.0.1', backlog: 1 }, () => {
    parentPort.postMessage(server.address().port);
    Atomics.wait(new Int32Array(new SharedArrayBuffer(4)), 0, 0);
  });
`;
/** Connections that the system takes by itself, and some more. */
const FILLING = 4;

/** A port from which no answer comes at all, as behind a firewall that drops: its queue is full, so the system drops what comes further. */
export class Wall {
  private constructor(
    readonly port: number,
    private readonly thread: Worker,
    private readonly filling: readonly Socket[],
  ) {}

  static async stand(): Promise<Wall> {
    const thread = new Worker(STANDS_STILL, { eval: true });
    const port = await new Promise<number>((resolve, reject) => thread.once('message', resolve).once('error', reject));
    const filling = Array.from({ length: FILLING }, () => connect(port, '127.0.0.1').on('error', () => {}));
    // From the second on they may wait for ever.
    await new Promise((resolve) => filling[0]?.once('connect', resolve));
    return new Wall(port, thread, filling);
  }

  close(): void {
    for (const one of this.filling) one.destroy();
    this.thread.terminate().catch(() => {});
  }
}
