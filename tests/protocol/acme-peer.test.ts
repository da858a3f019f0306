import { type ChildProcess, spawn } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { request } from 'node:https';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect } from 'node:tls';
import { afterAll, beforeAll, expect, it, vi } from 'vitest';
import type { CertificateName } from '../../src/api/certificate-schemas.ts';
import { CertificateMaker } from '../../src/standins/certificate-maker.ts';
import { freePort } from '../../src/standins/free-port.ts';
import { type House, openHouse } from '../support/house.ts';

/** A server of RFC 8555 that others wrote, from Debian's packages: it looks names up, connects to port 80, and gives certificates with a chain. */

const folder = mkdtempSync(join(tmpdir(), 'tenedor-acme-peer-'));
const file = (name: string): string => join(folder, name);
let peer: ChildProcess;
let house: House;
let roots = '';

/** One answer of the peer's own port for its keeper. */
const ask = (port: number, path: string, ca: string): Promise<string> =>
  new Promise((resolve, reject) => {
    request({ host: '127.0.0.1', servername: 'localhost', port, path, ca }, (answer) => {
      let text = '';
      answer.on('data', (piece) => {
        text += piece;
      });
      answer.on('end', () => resolve(text));
    })
      .on('error', reject)
      .end();
  });

beforeAll(async () => {
  const maker = await CertificateMaker.make('Peer', { days: 90, now: Date.now });
  const own = await maker.give(['localhost'], null);
  writeFileSync(file('own.pem'), own.pem);
  writeFileSync(file('own.key'), own.key ?? '');
  writeFileSync(file('peer-roots.pem'), maker.rootPem);
  const binding = randomBytes(32).toString('base64url');
  writeFileSync(file('binding.key'), `${binding}\n`);
  const [directory, keeper, challenge, dnsPort] = [await freePort(), await freePort(), await freePort(), await freePort()];
  const settings = {
    listenAddress: `127.0.0.1:${directory}`,
    managementListenAddress: `127.0.0.1:${keeper}`,
    certificate: file('own.pem'),
    privateKey: file('own.key'),
    httpPort: challenge,
    tlsPort: 1,
    ocspResponderURL: '',
    domainBlocklist: ['mail.blocked.example'],
    externalAccountBindingRequired: true,
    externalAccountMACKeys: { 'tenedor-1': binding },
  };
  writeFileSync(file('settings.json'), JSON.stringify({ pebble: settings }));
  peer = spawn('pebble', ['-config', file('settings.json'), '-dnsserver', `127.0.0.1:${dnsPort}`], {
    env: { ...process.env, PEBBLE_VA_NOSLEEP: '1' },
    stdio: 'ignore',
  });
  roots = await vi.waitFor(() => ask(keeper, '/roots/0', maker.rootPem), { timeout: 20_000 });
  writeFileSync(file('roots.pem'), roots);
  house = await openHouse({
    dnsPort,
    addresses: ['127.0.0.1'],
    mail: `greet_after_ms = 0\ntrusted_roots = "${file('roots.pem')}"`,
    more: [
      `[[listener]]\nservice = "challenge"\naddress = "127.0.0.1"\nport = ${challenge}`,
      `[authority]\ndirectory = "https://localhost:${directory}/dir"\ntrusted_roots = "${file('peer-roots.pem')}"\nbinding_id = "tenedor-1"\nbinding_key_file = "${file('binding.key')}"`,
    ].join('\n'),
  });
  await house.provide('shop.example', ['ana']);
  house.dns.publish({ name: 'mail.shop.example', type: 'A', value: '127.0.0.1' });
});
afterAll(async () => {
  await house?.close();
  peer?.kill();
  rmSync(folder, { recursive: true, force: true });
});

const fetched = (name = 'mail.shop.example') => house.api.call<CertificateName>('POST', `/certificates/${name}/fetch`, {});
const shown = (): Promise<string> =>
  new Promise((resolve, reject) => {
    const socket = connect({ host: '127.0.0.1', port: house.ports.imaps, servername: 'mail.shop.example', ca: roots }, () => {
      resolve(createHash('sha256').update(socket.getPeerCertificate().raw).digest('hex'));
      socket.destroy();
    }).on('error', reject);
  });

it('gives a certificate by http-01 under a bound account, which any client trusts; and another one by the same account', async () => {
  const { status, body } = await fetched();
  expect([status, JSON.stringify(body)]).toEqual([200, expect.stringContaining('"verdict":"good"')]);
  expect(body.certificate?.names).toEqual(['mail.shop.example']);
  // A client that knows the root alone comes through by the chain that is shown.
  const first = await shown();
  expect((await fetched()).status).toBe(200);
  expect(await shown()).not.toBe(first);
  expect(house.service.context.db.one('SELECT count(*) AS accounts FROM authority_account')).toEqual({ accounts: 1 });
});

it('says why it gives none, in its own words', async () => {
  await house.provide('blocked.example', []);
  house.dns.publish({ name: 'mail.blocked.example', type: 'A', value: '127.0.0.1' });
  const refused = await fetched('mail.blocked.example');
  expect(refused.status).toBe(502);
  expect(JSON.stringify(refused.body)).toContain('polic');
});
