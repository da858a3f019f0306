import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { readFileSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { RecordSheet } from '../../src/api/schemas.ts';
import { reverseName } from '../../src/core/records/reverse-name.ts';
import { HOST, type House, openHouse, PASSWORD } from '../support/house.ts';

const PROGRAM = fileURLToPath(new URL('../../tenedor', import.meta.url));
let house: House;
beforeAll(async () => {
  house = await openHouse();
});
afterAll(() => house.close());

interface Run {
  code: number;
  stdout: string;
  stderr: string;
}

async function tenedor(args: string[], options: { input?: string; env?: Record<string, string> } = {}): Promise<Run> {
  const child = spawn(PROGRAM, args, {
    env: { ...process.env, TENEDOR_URL: house.api.url, TENEDOR_TOKEN: house.token, ...options.env },
    stdio: ['pipe', 'pipe', 'pipe'],
  });
  const run: Run = { code: -1, stdout: '', stderr: '' };
  child.stdout.on('data', (bytes) => {
    run.stdout += bytes;
  });
  child.stderr.on('data', (bytes) => {
    run.stderr += bytes;
  });
  child.stdin.end(options.input ?? '');
  [run.code] = (await once(child, 'close')) as [number];
  return run;
}
const line = (text: string): Promise<Run> => tenedor(text.split(' '));

it('the whole job: take on, sheet, check, fix, check, mailbox, limit, remove', async () => {
  expect((await line('plan add standard --hour 10 --day none')).stdout).toContain('10 per hour, no limit per day');
  expect((await tenedor(['customer', 'add', 'Vivero Luna'])).code).toBe(0);
  expect((await tenedor(['domain', 'add', 'vivero.example', '--customer', 'Vivero Luna'])).stdout).toContain(
    'vivero.example is taken on for Vivero Luna.',
  );
  const sheet = JSON.parse((await line('--json records vivero.example')).stdout) as RecordSheet;
  const human = (await line('records vivero.example')).stdout;
  for (const record of sheet.records)
    for (const part of [record.name, record.value, record.relativeName ?? record.name]) expect(human).toContain(part);
  expect((await line('records vivero.example --zone')).stdout).toBe(sheet.zone);

  const bad = await line('check vivero.example');
  expect(bad.code).toBe(1);
  expect(bad.stdout).toMatch(/○ missing {2}SPF .*\n[\s\S]*in a form that appends the zone[\s\S]*readiness/);
  house.dns.typeIn(...sheet.records);
  const good = await line('check vivero.example');
  expect(good).toMatchObject({ code: 0, stderr: '' });
  expect(good.stdout).toContain('readiness 100 of 100');
  expect((await line('check --all')).code).toBe(0);
  house.dns.withdraw(reverseName(HOST.addresses[1] ?? ''));
  const all = await line('check --all');
  expect(all.code).toBe(1);
  expect(all.stdout).toContain('1 domain: 4 good, 1 wrong');
  expect((await line('host show')).stdout).toContain('has no reverse record');

  const added = await line('mailbox add rosa@vivero.example');
  expect(added.stdout).toMatch(/password {2}[a-z2-9-]{23} {3}shown this once/);
  expect(
    (await tenedor(['mailbox', 'add', 'ana@vivero.example', '--ask-password', '--quota', '500M'], { input: `${PASSWORD}\n` })).stdout,
  ).not.toContain(PASSWORD);
  expect((await line('alias add hello@vivero.example rosa@vivero.example li@out.example')).stdout).toContain('leads to');
  expect((await line('mailbox list vivero.example')).stdout).toMatch(/ana@vivero.example +0 +0 B +500 MiB/);
  expect((await line('limit set vivero.example --hour 5')).stdout).toContain('may now send 5 per hour and no limit per day');
  expect((await line('limit show vivero.example')).stdout).toContain('0 of 5');
  expect((await line('ledger vivero.example')).stdout).toContain('0 sends since');
  expect((await line('domain list')).stdout).toMatch(/vivero.example +Vivero Luna +home/);
  expect((await line('journal vivero.example')).stdout).toContain('limits are now 5 per hour');
  expect((await line('queue list')).stdout).toBe('The queue is empty.\n');

  const unasked = await line('domain remove vivero.example');
  expect(unasked.code).toBe(2);
  expect(unasked.stderr).toContain('2 mailboxes with 0 messages');
  expect((await line('domain show vivero.example')).code).toBe(0);
  expect(await line('domain remove vivero.example --yes')).toMatchObject({ code: 0, stdout: 'vivero.example is removed.\n' });
  expect((await line('domain show vivero.example')).code).toBe(3);
});

describe('tried wrong, two lines and an exit code', () => {
  it.each([
    ['domian list', 2, /unknown command 'domian'\. Did you mean domain\?\nSee: tenedor --help/i],
    ['domain show', 2, /missing required argument 'domain'\.\nSee: tenedor domain show --help/i],
    ['domain add x.example', 2, /required option '--customer <name>' not specified/i],
    ['domain list --serch x', 2, /unknown option '--serch'\. Did you mean --search\?/i],
    ['limit set x.example --hour lots', 2, /'lots' is invalid\. Give a whole number\.\nSee: tenedor limit set --help/],
    ['check', 2, /No domain was named\.\nName one or more, or use --all\./],
    ['check none.example', 3, /The domain none\.example is not on this server\.\nLook for a typing error/],
    ['journey xyz', 3, /There is no journey “xyz”\.\n/],
    ['mailbox add rosa', 3, /“rosa” is no address\.\nWrite it like ana@shop\.example\./],
  ])('%s', async (text, code, message) => {
    const run = await line(text);
    expect(run).toMatchObject({ code, stdout: '' });
    expect(run.stderr).toMatch(message);
    expect(run.stderr.trim().split('\n')).toHaveLength(2);
  });

  it('the service down, nobody signed in, a revoked token', async () => {
    const down = await tenedor(['status'], { env: { TENEDOR_URL: 'http://127.0.0.1:1025' } });
    expect(down.code).toBe(4);
    expect(down.stderr).toMatch(/^The service at http:\/\/127\.0\.0\.1:1025 can’t be reached \(\w+\)\.\nIs it running\?/);
    const nobody = await tenedor(['status'], {
      env: { TENEDOR_URL: '', TENEDOR_TOKEN: '', TENEDOR_CLIENT: join(house.folder, 'none.json') },
    });
    expect(nobody.code).toBe(2);
    expect(nobody.stderr).toContain('Sign in first');
    expect(await tenedor(['status'], { env: { TENEDOR_TOKEN: 'tnd_revoked' } })).toMatchObject({ code: 3, stdout: '' });
  });

  it('a noun alone shows its verbs', async () => {
    const run = await line('mailbox');
    expect(run.code).toBe(2);
    expect(run.stderr).toContain('remove [options] <address>');
    expect((await line('--help')).stdout).toContain('Exit codes: 0 done');
  });
});

it('signs in with the one-time code, keeps a token for this account only, and works with it', async () => {
  const file = join(house.folder, 'client.json');
  const env = { TENEDOR_URL: '', TENEDOR_TOKEN: '', TENEDOR_CLIENT: file };
  const code = house.service.firstSignIn?.code ?? '';
  expect((await tenedor(['sign-in', '--url', house.api.url, '--code', 'wrong'], { input: PASSWORD, env })).code).toBe(3);
  expect(await tenedor(['sign-in', '--url', house.api.url, '--code', code], { input: PASSWORD, env })).toMatchObject({
    code: 0,
    stderr: '',
  });
  expect(statSync(file).mode & 0o777).toBe(0o600);
  expect(readFileSync(file, 'utf8')).not.toContain(PASSWORD);
  expect((await tenedor(['status'], { env })).stdout).toContain('mail.host.example');
  expect((await tenedor(['sign-in', '--url', house.api.url], { input: PASSWORD, env })).code).toBe(0);
  expect((await tenedor(['token', 'list'], { env })).stdout.split('\n').filter((row) => row.startsWith('command line on'))).toHaveLength(1);
});
