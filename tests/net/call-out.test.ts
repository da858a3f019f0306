import { once } from 'node:events';
import { createServer, type IncomingMessage } from 'node:http';
import type { AddressInfo } from 'node:net';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { isOwnMachine, mayTest } from '../../src/core/address/reach.ts';
import { callOut } from '../../src/net/call-out.ts';
import { primaryHosts } from '../../src/service/delivery/primary-hosts.ts';
import { at, lookupIn } from '../support/lookup.ts';

let port: number;
const seen: { request: IncomingMessage; body: string }[] = [];
const server = createServer(async (request, response) => {
  let body = '';
  for await (const piece of request) body += piece;
  seen.push({ request, body });
  if (request.url === '/moved') response.writeHead(302, { location: '/elsewhere' });
  else response.writeHead(204);
  response.end();
});
beforeAll(async () => {
  server.listen(0, '127.0.0.1');
  await once(server, 'listening');
  port = (server.address() as AddressInfo).port;
});
afterAll(() => server.close());

it('posts what it is given, and follows no redirect', async () => {
  const call = callOut(true);
  expect(await call(`http://127.0.0.1:${port}/hook?x=1`, { 'content-type': 'application/json', signature: 'x' }, '{"ñ":1}')).toEqual({
    status: 204,
    reason: 'No Content',
  });
  expect(seen.at(-1)).toMatchObject({
    body: '{"ñ":1}',
    request: { method: 'POST', url: '/hook?x=1', headers: { signature: 'x', 'content-length': '8' } },
  });
  expect(await call(`http://127.0.0.1:${port}/moved`, {}, '')).toMatchObject({ status: 302 });
  expect(seen.map((one) => one.request.url)).toEqual(['/hook?x=1', '/moved']);
  expect(await call('http://127.0.0.1:1/', {}, '')).toEqual({ status: null, reason: 'ECONNREFUSED' });
});

it('reaches this machine only where the configuration allows it, by whatever name or spelling', async () => {
  const before = seen.length;
  for (const host of ['127.0.0.1', 'localhost', '[::1]', '[::ffff:127.0.0.1]', '0.0.0.0', '127.1', '2130706433', '0x7f000001', '[::]'])
    expect(await callOut(false)(`http://${host}:${port}/`, {}, ''), host).toEqual({
      status: null,
      reason: expect.stringContaining('outgoing.to_this_machine'),
    });
  expect(seen.length).toBe(before);
});

it('nor do smart hosts and other servers of domains', async () => {
  const lookup = lookupIn([
    at('in.example', 'A', '127.0.0.1'),
    at('both.example', 'A', '127.0.0.1'),
    at('both.example', 'A', '203.0.113.5'),
  ]);
  const host = { name: 'h.example', addresses: [], postmaster: '', maxMessageBytes: 1, blockLists: [], refuseListed: [] };
  const of = async (name: string, toThisMachine = false) => {
    const found = await primaryHosts({ lookup, host: { ...host, toThisMachine } }, 'x.example', name);
    return found.kind === 'hosts' ? found.hosts.map((one) => one.address) : found.reason;
  };
  for (const name of ['127.0.0.1:25', '[::1]:25', 'in.example']) {
    expect(await of(name), name).toContain('outgoing.to_this_machine');
    expect(await of(name, true), name).toHaveLength(1);
  }
  expect(await of('both.example')).toEqual(['203.0.113.5']);
});

it('an address of this machine is known as one', () => {
  for (const address of [
    '127.0.0.1',
    '127.9.9.9',
    '::1',
    '::',
    '0.0.0.0',
    '169.254.169.254',
    'fe80::1',
    '::ffff:127.0.0.1',
    '64:ff9b::7f00:1',
    '2002:7f00:1::',
    '::127.0.0.1',
    '64:ff9b:1::7f00:1',
    '2001:0:1:2:3:4:80ff:fffe',
  ])
    expect(isOwnMachine(address), address).toBe(true);
  for (const address of ['192.0.2.1', '10.0.0.1', '192.168.1.1', '2001:db8::1', 'fd00::1', 'localhost', ''])
    expect(isOwnMachine(address), address).toBe(false);
});

it('tests go to public addresses only, in whatever form they are written, unless the configuration says so', () => {
  const host = { addresses: ['10.1.2.3'] };
  for (const address of ['192.0.2.1', '8.8.8.8', '2001:db8::1', '2600::1', '10.1.2.3', '64:ff9b::808:808'])
    expect(mayTest(address, host), address).toBe(true);
  for (const address of [
    '10.0.0.1',
    '172.16.0.1',
    '192.168.1.1',
    '100.64.0.1',
    '169.254.1.1',
    '127.0.0.1',
    '0.0.0.0',
    '224.0.0.1',
    '255.255.255.255',
    '240.0.0.1',
  ])
    expect(mayTest(address, host), address).toBe(false);
  for (const address of [
    '::1',
    'fe80::1',
    'fd00::1',
    'ff02::1',
    '::ffff:10.0.0.1',
    '64:ff9b::a00:1',
    '2002:a00:1::',
    '::10.0.0.1',
    'localhost',
    '',
  ])
    expect(mayTest(address, host), address).toBe(false);
  expect(mayTest('127.0.0.1', { ...host, toThisMachine: true })).toBe(true);
});
