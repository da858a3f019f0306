import { generateKeyPairSync, sign } from 'node:crypto';
import { createServer } from 'node:net';
import { StandInDns } from '../../src/standins/dns-server.ts';
import { type Bench, startBench, submitAll } from './service.ts';

const MESSAGES = 3000;

/** A server that takes every message at once and counts it: the least that a receiver can do. */
function sink(onMessage: () => void): Promise<{ port: number; close: () => void }> {
  const server = createServer((socket) => {
    let inData = false;
    let text = '';
    socket.setNoDelay();
    socket.write('220 sink.example ESMTP\r\n');
    socket.on('error', () => {});
    socket.on('data', (bytes) => {
      text += bytes.toString('latin1');
      let out = '';
      for (;;) {
        if (inData) {
          const end = text.indexOf('\r\n.\r\n');
          if (end < 0) break;
          text = text.slice(end + 5);
          inData = false;
          out += '250 2.0.0 Kept\r\n';
          onMessage();
          continue;
        }
        const end = text.indexOf('\r\n');
        if (end < 0) break;
        const verb = text.slice(0, 4).toUpperCase();
        text = text.slice(end + 2);
        inData = verb === 'DATA';
        out +=
          verb === 'EHLO'
            ? '250-sink.example\r\n250-PIPELINING\r\n250 SIZE 99999999\r\n'
            : inData
              ? '354 Go\r\n'
              : verb === 'QUIT'
                ? '221 Bye\r\n'
                : '250 Fine\r\n';
      }
      if (out !== '') socket.write(out);
    });
  });
  return new Promise((resolve) =>
    server.listen(0, '127.0.0.1', () => resolve({ port: (server.address() as { port: number }).port, close: () => server.close() })),
  );
}

/** The service with one outside domain, whose server is the sink. `arrival` resolves when that many messages have come there from now on. */
async function withSink(): Promise<{ bench: Bench; arrival: (count: number) => Promise<void>; stop: () => Promise<void> }> {
  let left = 0;
  let tell = (): void => {};
  const { port, close } = await sink(() => {
    left -= 1;
    if (left === 0) tell();
  });
  const dns = new StandInDns();
  dns.addZone('sink.example', [
    { name: 'sink.example', type: 'MX', value: '10 mx.sink.example' },
    { name: 'mx.sink.example', type: 'A', value: '203.0.113.40' },
  ]);
  const bench = await startBench(await dns.listen(), `[[dial]]\nto = "203.0.113.40:25"\nthrough = "127.0.0.1:${port}"\n`);
  return {
    bench,
    arrival: (count) => {
      left = count;
      return new Promise((resolve) => {
        tell = resolve;
      });
    },
    stop: async () => {
      await bench.stop();
      dns.close();
      close();
    },
  };
}

/** What is measured more than once on one running service. */
export interface Measured {
  /** Makes ready for the next measure. */
  prepare: () => Promise<void>;
  /** Messages a second. */
  measure: () => Promise<number>;
  stop: () => Promise<void>;
}

const rate = async (work: Promise<unknown>): Promise<number> => {
  const begun = performance.now();
  await work;
  return (1000 * MESSAGES) / (performance.now() - begun);
};

/** From the queue, signed, to the sink's acceptance: messages are accepted while no outlet is on, and the clock starts when it is switched on. */
export async function handingOver(): Promise<Measured> {
  const { bench, arrival, stop } = await withSink();
  const switched = (isOn: boolean): Promise<unknown> => bench.call('PATCH', '/outlets/direct', { isOn });
  const prepare = async (): Promise<void> => {
    await switched(false);
    await submitAll(bench.talks, MESSAGES, 'to@sink.example');
    // All have been looked at when the next try of each is minutes away.
    for (let isQuiet = false; !isQuiet; ) {
      const {
        rows: [waiting],
      } = await bench.call<{ rows: { nextAttemptAt: number | null }[] }>('GET', '/queue/destinations');
      isQuiet = (waiting?.nextAttemptAt ?? 0) > Date.now() + 10_000;
    }
  };
  const measure = (): Promise<number> => rate(Promise.all([arrival(MESSAGES), switched(true)]));
  // A service that has just started compiles its own code.
  await prepare();
  await measure();
  return { prepare, measure, stop };
}

/** From submission over fifty connections to the sink's acceptance. */
export async function wholeWay(): Promise<Measured> {
  const { bench, arrival, stop } = await withSink();
  const measure = (): Promise<number> => rate(Promise.all([arrival(MESSAGES), submitAll(bench.talks, MESSAGES, 'to@sink.example')]));
  await measure();
  return { prepare: async () => {}, measure, stop };
}

const SIGNATURES = 3000;

/** RSA-2048 signatures a second, as many at once as the machine's threads take. */
export async function rawSignatures(): Promise<number> {
  const { privateKey } = generateKeyPairSync('rsa', { modulusLength: 2048 });
  const input = Buffer.alloc(600, 0x61);
  const one = (): Promise<void> =>
    new Promise((resolve, reject) => sign('sha256', input, privateKey, (error) => (error ? reject(error) : resolve())));
  let left = SIGNATURES;
  const begun = performance.now();
  await Promise.all(
    Array.from({ length: 8 }, async () => {
      while (left > 0) {
        left -= 1;
        await one();
      }
    }),
  );
  return SIGNATURES / ((performance.now() - begun) / 1000);
}
