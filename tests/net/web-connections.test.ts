import type { Server } from 'node:http';
import { type AddressInfo, connect, type Socket } from 'node:net';
import { afterEach, expect, it } from 'vitest';
import type { WebConnections } from '../../src/net/web-connections.ts';
import { openWebServer } from '../../src/net/web-server.ts';

let server: Server;
const clients: Socket[] = [];
afterEach(() => {
  for (const one of clients.splice(0)) one.destroy();
  server.closeAllConnections();
  server.close();
});

const LARGE = Buffer.alloc(400_000);
/** More than the system takes over of it. */
const HUGE = Buffer.alloc(12_000_000);
let begun: string[] = [];
/** A server whose answers are large; `/in` signs the connection in. */
async function open(mostOpen: number): Promise<number> {
  begun = [];
  server = openWebServer(
    (connections: WebConnections) => (request, response) => {
      begun.push(request.url ?? '');
      if (request.url === '/in') connections.know(request.socket);
      response.end(request.url === '/large' ? LARGE : request.url === '/huge' ? HUGE : request.url);
    },
    { certificates: null, mostOpen, onFault: () => {} },
  ) as Server;
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return (server.address() as AddressInfo).port;
}
async function client(port: number, from = '127.0.0.1'): Promise<Socket> {
  const socket = connect({ port, host: '127.0.0.1', localAddress: from });
  clients.push(socket);
  socket.on('error', () => {});
  await new Promise<void>((resolve) => socket.once('connect', resolve));
  return socket;
}
const get = (path: string): string => `GET ${path} HTTP/1.1\r\nHost: x\r\n\r\n`;
const closed = (socket: Socket): Promise<void> =>
  new Promise((resolve) => (socket.destroyed ? resolve() : socket.once('close', () => resolve())));
/** What comes until `end`; null when the server hangs up. */
const answer = (socket: Socket, end: string): Promise<string | null> =>
  new Promise((resolve) => {
    let text = '';
    socket.on('data', (bytes) => {
      text += bytes.toString('latin1');
      if (text.includes(end)) resolve(text);
    });
    socket.on('close', () => resolve(null));
  });

it('a client that sends requests and reads nothing has one answer made, and is closed when it sends more', async () => {
  const port = await open(100);
  const greedy = await client(port);
  greedy.pause();
  greedy.write(get('/large').repeat(1500));
  greedy.resume();
  await closed(greedy);
  expect(begun.length).toBeLessThanOrEqual(8);
  // As many as may wait are answered one after the other, in their order.
  const patient = await client(port);
  const paths = Array.from({ length: 8 }, (_none, at) => `/a${at}`);
  patient.write(paths.map(get).join(''));
  expect((await answer(patient, '/a7'))?.match(/\/a\d/g)).toEqual(paths);
});

it('answers that nobody takes are bounded over all connections', async () => {
  const port = await open(600);
  const greedy = await Promise.all(Array.from({ length: 60 }, (_none, at) => client(port, `127.0.0.${2 + (at % 6)}`)));
  for (const one of greedy) {
    one.pause();
    one.write(get('/huge'));
  }
  await expect.poll(() => begun.length, { timeout: 10_000 }).toBe(60);
  const honest = await client(port);
  honest.write(get('/well'));
  expect(await answer(honest, '/well')).toContain('200 OK');
  const held = await new Promise<number>((resolve) => server.getConnections((_error, count) => resolve(count)));
  // 60 answers of 12 MB are 720 MB.
  expect(held).toBeLessThan(20);
});

it('addresses that hold all places give them up to others; who has signed in keeps its own', async () => {
  const port = await open(60);
  const member = await client(port, '127.0.0.99');
  member.write(get('/in'));
  await answer(member, '/in');
  for (let at = 0; at < 72; at += 1) await client(port, `127.0.0.${2 + (at % 6)}`);
  const late = await client(port, '127.0.0.77');
  late.write(get('/late'));
  expect(await answer(late, '/late')).toContain('200 OK');
  // From ever new addresses, too.
  for (let at = 0; at < 100; at += 1) await client(port, `127.0.1.${2 + at}`);
  const later = await client(port, '127.0.0.78');
  later.write(get('/later'));
  expect(await answer(later, '/later')).toContain('200 OK');
  expect(member.destroyed).toBe(false);
  member.write(get('/still'));
  expect(await answer(member, '/still')).toContain('200 OK');
});
