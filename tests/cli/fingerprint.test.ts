import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdtempSync, readFileSync, rmSync, statSync } from 'node:fs';
import { createServer } from 'node:https';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Writable } from 'node:stream';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { type RunningService, startService } from '../../src/compose/running-service.ts';
import { loadCertificate } from '../../src/net/certificate.ts';
import { PROJECT } from '../../src/project.ts';
import { parseConfig } from '../../src/service/app/config.ts';
import { PASSWORD } from '../support/house.ts';

/** A service whose console speaks TLS with a certificate of its own making. */

const folder = mkdtempSync(join(tmpdir(), 'tenedor-fingerprint-'));
const kept = join(folder, 'client', 'client.json');
let service: RunningService;
let log = '';
let url: string;
beforeAll(async () => {
  const text = `data = "data"\n[host]\nname = "mail.host.example"\naddresses = ["192.0.2.25"]\npostmaster = "post@host.example"\n[dns]\nresolvers = ["127.0.0.1:1"]\n[checks]\nevery_minutes = 0\n[[listener]]\nservice = "web"\naddress = "127.0.0.1"\nport = 0\ntls = true\n`;
  const logTo = new Writable({
    write: (bytes, _encoding, done) => {
      log += bytes;
      done();
    },
  });
  service = await startService(parseConfig(text, join(folder, 'tenedor.toml'), folder), { logTo: logTo as never });
  url = `https://127.0.0.1:${service.ports[0]}`;
});
afterAll(async () => {
  await service.stop();
  rmSync(folder, { recursive: true, force: true });
});

async function tenedor(args: string[], input = ''): Promise<{ code: number; stdout: string; stderr: string }> {
  const { TENEDOR_URL: _url, TENEDOR_TOKEN: _token, ...env } = process.env;
  const child = spawn(join(PROJECT, 'tenedor'), args, { env: { ...env, TENEDOR_CLIENT: kept } });
  const run = { code: -1, stdout: '', stderr: '' };
  child.stdout.on('data', (bytes) => {
    run.stdout += bytes;
  });
  child.stderr.on('data', (bytes) => {
    run.stderr += bytes;
  });
  child.stdin.end(input);
  [run.code] = (await once(child, 'close')) as [number];
  return run;
}

it('a certificate that nobody known has signed is shown by its fingerprint, kept when it is said to be right, and held to afterwards', async () => {
  const code = service.firstSignIn?.code ?? '';
  const shown = await tenedor(['sign-in', '--url', url, '--code', code], `${PASSWORD}\n`);
  expect(shown.code).toBe(2);
  const fingerprint = /[0-9A-F]{2}(?::[0-9A-F]{2}){31}/.exec(shown.stderr)?.[0] ?? '';
  expect(shown.stderr).toContain('add: --fingerprint');
  // The same one is in the log of the start.
  expect(log).toContain(`"certificate":"${fingerprint}"`);
  const wrong = await tenedor(
    ['sign-in', '--url', url, '--code', code, '--fingerprint', fingerprint.replace(/^../, fingerprint.startsWith('00') ? '11' : '00')],
    `${PASSWORD}\n`,
  );
  expect([wrong.code, wrong.stderr]).toEqual([4, expect.stringContaining('has changed: its fingerprint is')]);
  for (const none of ['abc', '', 'x'.repeat(64)])
    expect((await tenedor(['sign-in', '--url', url, '--fingerprint', none], 'x\n')).code).toBe(2);
  // In small letters and without colons it is the same.
  const signedIn = await tenedor(
    ['sign-in', '--url', url, '--code', code, '--fingerprint', fingerprint.replaceAll(':', '').toLowerCase()],
    `${PASSWORD}\n`,
  );
  expect(signedIn).toMatchObject({ code: 0, stdout: expect.stringContaining('Signed in to') });
  expect(JSON.parse(readFileSync(kept, 'utf8'))).toMatchObject({ signIns: [{ account: 'operator', url, fingerprint }] });
  expect(statSync(kept).mode & 0o777).toBe(0o600);
  expect((await tenedor(['customer', 'add', 'Vivero Luna'])).code).toBe(0);
  expect((await tenedor(['customer', 'list'])).stdout).toContain('Vivero Luna');
});

it('somebody in between, with a certificate of his own, is sent nothing', async () => {
  const { cert, key } = await loadCertificate(null, join(folder, 'other'), 'mail.host.example');
  let asked = 0;
  const other = createServer({ cert, key }, (_request, response) => {
    asked += 1;
    response.end('{}');
  });
  other.listen(0, '127.0.0.1');
  await once(other, 'listening');
  const [access] = (JSON.parse(readFileSync(kept, 'utf8')) as { signIns: { token: string; fingerprint: string }[] }).signIns;
  const inBetween = await new Promise<{ code: number; stderr: string }>((resolve) => {
    const child = spawn(join(PROJECT, 'tenedor'), ['customer', 'list'], {
      env: {
        ...process.env,
        TENEDOR_URL: `https://127.0.0.1:${(other.address() as AddressInfo).port}`,
        TENEDOR_TOKEN: access?.token,
        TENEDOR_FINGERPRINT: access?.fingerprint,
      },
    });
    let stderr = '';
    child.stderr.on('data', (bytes) => {
      stderr += bytes;
    });
    child.on('close', (code) => resolve({ code: code ?? -1, stderr }));
  });
  other.close();
  expect(inBetween).toEqual({ code: 4, stderr: expect.stringContaining('somebody may be intercepting') });
  expect(asked).toBe(0);
});
