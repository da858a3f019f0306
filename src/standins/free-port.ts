import { once } from 'node:events';
import { createServer } from 'node:net';

/** Below the ports that the system gives to outgoing connections and to `listen(0)`: those may be taken again before they are used. */
const FIRST = 10_000;
const SHARES = 400;
const SHARE = 50;

let handedOut = 0;

/** A port of this machine that nobody uses at the moment, and that no other process of ours asks for: each has a share of its own. */
export async function freePort(): Promise<number> {
  for (let tries = 0; tries < SHARE; tries += 1) {
    const port = FIRST + (process.pid % SHARES) * SHARE + (handedOut % SHARE);
    handedOut += 1;
    if (await isFree(port)) return port;
  }
  throw new Error('no free port');
}

/** Whether a port of 127.0.0.1 is to be had. */
export async function isFree(port: number): Promise<boolean> {
  const probe = createServer();
  try {
    await once(probe.listen(port, '127.0.0.1'), 'listening');
  } catch {
    return false;
  }
  probe.close();
  await once(probe, 'close');
  return true;
}
