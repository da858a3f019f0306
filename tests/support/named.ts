import { spawn } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { freePort } from '../../src/standins/free-port.ts';

export interface Named {
  port: number;
  close(): Promise<void>;
}

export const TSIG = { name: 'tenedor-test', algorithm: 'hmac-sha256', secret: 'c29tZSBzZWNyZXQgb2YgdGhlIHRlc3RzIG9ubHk=' } as const;

/** A real name server (named, Debian's bind9) on a loopback port with one zone, which takes updates signed with `TSIG`. */
export async function openNamed(zone: string, records: string): Promise<Named> {
  const folder = mkdtempSync(join(tmpdir(), 'tenedor-named-'));
  const port = await freePort();
  writeFileSync(
    join(folder, 'zone'),
    `$TTL 300\n$ORIGIN ${zone}.\n@ IN SOA ns.${zone}. root.${zone}. 1 3600 600 86400 60\n@ IN NS ns\nns IN A 127.0.0.1\n${records}\n`,
  );
  writeFileSync(
    join(folder, 'conf'),
    `options {
  directory "${folder}"; pid-file "${folder}/pid"; session-keyfile "${folder}/session"; managed-keys-directory "${folder}"; lock-file none;
  listen-on port ${port} { 127.0.0.1; }; listen-on-v6 { none; }; recursion no; dnssec-validation no; notify no;
};
controls { };
key "${TSIG.name}" { algorithm ${TSIG.algorithm}; secret "${TSIG.secret}"; };
key "reader" { algorithm ${TSIG.algorithm}; secret "${TSIG.secret}"; };
zone "${zone}" { type master; file "zone"; allow-update { key "${TSIG.name}"; }; };
`,
  );
  const child = spawn('/usr/sbin/named', ['-g', '-n', '1', '-c', join(folder, 'conf')], { stdio: ['ignore', 'ignore', 'pipe'] });
  let log = '';
  const ended = new Promise<void>((resolve) => child.on('exit', () => resolve()));
  await new Promise<void>((resolve, reject) => {
    child.stderr.on('data', (bytes) => {
      log += bytes;
      if (/ running$/m.test(log)) resolve();
    });
    child.on('exit', () => reject(new Error(`named did not start:\n${log}`)));
  });
  return {
    port,
    close: async () => {
      child.kill('SIGTERM');
      await ended;
      rmSync(folder, { recursive: true, force: true });
    },
  };
}
