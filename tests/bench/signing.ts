import { generateKeyPairSync, sign } from 'node:crypto';
import { createServer } from 'node:net';
import { StandInDns } from '../../src/standins/dns-server.ts';
import { type Bench, startBench, submitAll } from './service.ts';

const WARM = 3000;
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

/** Messages a second from the queue, signed, to the sink's acceptance: they were accepted while no outlet was on, and the clock starts when it is switched on. */
export async function signedAndHandedOver(): Promise<number> {
  const { bench, arrival, stop } = await withSink();
  const run = async (count: number): Promise<number> => {
    await bench.call('PATCH', '/outlets/direct', { isOn: false });
    await submitAll(bench.talks, count, 'to@sink.example');
    // All have been looked at when the next try of each is minutes away.
    for (let isQuiet = false; !isQuiet; ) {
      const {
        rows: [waiting],
      } = await bench.call<{ rows: { nextAttemptAt: number | null }[] }>('GET', '/queue/destinations');
      isQuiet = (waiting?.nextAttemptAt ?? 0) > Date.now() + 10_000;
    }
    const all = arrival(count);
    const begun = performance.now();
    await Promise.all([bench.call('PATCH', '/outlets/direct', { isOn: true }), all]);
    return (performance.now() - begun) / 1000;
  };
  await run(WARM);
  const seconds = await run(MESSAGES);
  await stop();
  return MESSAGES / seconds;
}

/** Messages a second from submission over fifty connections to the sink's acceptance. */
export async function wholeWay(): Promise<number> {
  const { bench, arrival, stop } = await withSink();
  const run = async (count: number): Promise<number> => {
    const all = arrival(count);
    const begun = performance.now();
    await Promise.all([submitAll(bench.talks, count, 'to@sink.example'), all]);
    return (performance.now() - begun) / 1000;
  };
  await run(WARM);
  const seconds = await run(MESSAGES);
  await stop();
  return MESSAGES / seconds;
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
