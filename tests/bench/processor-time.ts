import { type ChildProcess, spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createServer, type TLSSocket } from 'node:tls';
import { loadCertificate } from '../../src/net/certificate.ts';
import { PROJECT } from '../../src/project.ts';
import { StandInDns } from '../../src/standins/dns-server.ts';
import { CONNECTIONS, signIn, startBench, submitAll } from './service.ts';

const WARM = 20_000;
const MESSAGES = 10_000;
/** Of /proc, in ms: the kernel tells of hundredths of a second, whatever it counts in. */
const TICK_MS = 10;

/** A process's time on all processors so far, all its threads and the system's work for it, in ms (Linux). */
function processorTime(pid: number): number {
  const stat = readFileSync(`/proc/${pid}/stat`, 'latin1');
  const fields = stat.slice(stat.lastIndexOf(')') + 2).split(' ');
  return (Number(fields[11]) + Number(fields[12])) * TICK_MS;
}

const DOT = Buffer.from('\r\n.\r\n');

/** One bare conversation: answers as our service does, in as many pieces, and keeps nothing. */
function answer(socket: TLSSocket): void {
  let last = Buffer.alloc(0);
  let inText = false;
  socket.on('error', () => {});
  socket.on('data', (bytes) => {
    if (inText) {
      // The end may be cut anywhere.
      const end = Buffer.concat([last, bytes.subarray(-DOT.length)]).subarray(-DOT.length);
      last = end;
      if (!end.equals(DOT)) return;
      inText = false;
      socket.write('250 2.0.0 Accepted as 0123456789abcdefghij\r\n');
      return;
    }
    inText = bytes.includes('DATA\r\n');
    if (inText) socket.write('250 2.1.0 Sender accepted\r\n250 2.1.5 Recipient accepted\r\n354 End with a line that has only a dot\r\n');
    else socket.write(bytes.includes('AUTH') ? '235 2.7.0 Signed in\r\n' : '250 mail.host.example\r\n');
  });
  socket.write('220 mail.host.example\r\n');
}

/** A TLS server that holds the same conversation and writes nothing; says its port, and runs until it is killed. */
export async function serveBare(): Promise<never> {
  const folder = mkdtempSync(join(tmpdir(), 'tenedor-bare-'));
  const { cert, key } = await loadCertificate(null, folder, 'mail.host.example');
  rmSync(folder, { recursive: true });
  const server = createServer({ cert, key, minVersion: 'TLSv1.2' }, answer);
  server.listen(0, '127.0.0.1', () => process.stdout.write(`${(server.address() as { port: number }).port}\n`));
  return new Promise(() => {});
}

const spent = async (pid: number, work: (count: number) => Promise<void>): Promise<number> => {
  await work(WARM);
  const before = processorTime(pid);
  await work(MESSAGES);
  return (processorTime(pid) - before) / MESSAGES;
};

/** Processor time of the bare server for one message, in ms. */
export async function bareTime(): Promise<number> {
  const child: ChildProcess = spawn(process.execPath, [join(PROJECT, 'dist/bench.mjs'), 'bare-server'], {
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  const [said] = await once(child.stdout as NodeJS.ReadableStream, 'data');
  const talks = await Promise.all(Array.from({ length: CONNECTIONS }, () => signIn(Number(String(said)))));
  const ms = await spent(child.pid ?? 0, (count) => submitAll(talks, count, 'li@shop.example'));
  for (const talk of talks) talk.end();
  child.kill('SIGKILL');
  return ms;
}

/** Processor time of the service for one accepted message, in ms. */
export async function acceptedTime(): Promise<number> {
  const dns = new StandInDns();
  const bench = await startBench(await dns.listen(), '');
  const ms = await spent(bench.pid, (count) => submitAll(bench.talks, count, 'li@shop.example'));
  await bench.stop();
  dns.close();
  return ms;
}
