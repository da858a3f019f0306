import { spawn } from 'node:child_process';
import { generateKeyPairSync } from 'node:crypto';
import { once } from 'node:events';
import { chmodSync, mkdtempSync, readFileSync, rmSync, statSync, symlinkSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Key, RecordSheet } from '../../src/api/dns-schemas.ts';
import { reverseName } from '../../src/core/records/reverse-name.ts';
import { VERSION } from '../../src/project.ts';
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
  expect((await line('plan add standard --limit hour=10')).stdout).toContain('10 sends per hour');
  expect((await tenedor(['customer', 'add', 'Vivero Luna'])).code).toBe(0);
  expect((await tenedor(['domain', 'add', 'vivero.example', '--customer', 'Vivero Luna'])).stdout).toContain(
    'vivero.example is added for Vivero Luna.',
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
  expect(added.stdout).toMatch(/password {2}[a-z2-9-]{23} {3}shown only once/);
  expect(
    (await tenedor(['mailbox', 'add', 'ana@vivero.example', '--ask-password', '--quota', '500M'], { input: `${PASSWORD}\n` })).stdout,
  ).not.toContain(PASSWORD);
  expect((await line('alias add hello@vivero.example rosa@vivero.example li@out.example')).stdout).toContain('targets');
  expect((await line('mailbox list vivero.example')).stdout).toMatch(/ana@vivero.example +0 +0 B +500 MiB/);
  expect((await line('limit set vivero.example hour=5 month:bytes=2G')).stdout).toMatch(
    /hour +sends.*0 of 5 +its own \(plan: 10\)[\s\S]*month +bytes +0 B of 2\.0 GiB/,
  );
  expect((await line('limit show vivero.example')).stdout).toContain('0 of 5');
  expect((await line('ledger vivero.example')).stdout).toContain('0 messages with 0 sends, 0 B, since');
  expect((await line('domain list')).stdout).toMatch(/vivero.example +Vivero Luna +home/);
  expect((await line('journal vivero.example')).stdout).toContain('limits of vivero.example are now 5 sends per hour');
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
    ['domian list', 2, /There is no command “domian”\. Did you mean domain\?\nSee: tenedor --help/i],
    ['domain show', 2, /DOMAIN is missing\.\nSee: tenedor domain show --help/i],
    ['domain add x.example', 2, /--customer is missing/i],
    ['domain list --serch x', 2, /There is no option “--serch”\. Did you mean --search\?/i],
    ['limit set x.example hour=lots', 2, /“lots” is not an amount: .*\nSee: tenedor limit set --help/],
    ['limit set x.example lots', 2, /Write a limit like day=1000.*\nSee: tenedor limit set --help/],
    ['check', 2, /No domain was named\.\nName one or more, or use --all\./],
    ['check none.example', 3, /The domain none\.example is not on this server\.\nCheck the spelling/],
    ['journey xyz', 3, /There is no journey “xyz”\.\n/],
    ['mailbox add rosa', 2, /“rosa” is not an address\.\nWrite it like ana@shop\.example\./],
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

  it('runs through a link from elsewhere', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'tenedor-link-'));
    symlinkSync(PROGRAM, join(folder, 'tenedor'));
    const child = spawn(join(folder, 'tenedor'), ['--version'], { cwd: folder, stdio: ['ignore', 'pipe', 'inherit'] });
    let said = '';
    child.stdout.on('data', (bytes) => {
      said += bytes;
    });
    expect(await once(child, 'close')).toEqual([0, null]);
    expect(said).toBe(`${VERSION}\n`);
    rmSync(folder, { recursive: true });
  });
  it('a noun alone shows its verbs', async () => {
    const run = await line('mailbox');
    expect(run.code).toBe(2);
    expect(run.stderr).toContain('remove <address>');
    expect((await line('--help')).stdout).toContain('Exit codes:\n  0  done');
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
  chmodSync(file, 0o644);
  expect(readFileSync(file, 'utf8')).not.toContain(PASSWORD);
  expect((await tenedor(['status'], { env })).stdout).toContain('mail.host.example');
  expect((await tenedor(['sign-in', '--url', house.api.url], { input: PASSWORD, env })).code).toBe(0);
  expect(statSync(file).mode & 0o777).toBe(0o600);
  const tokens = async () => (await house.api.list<{ name: string }>('/tokens')).filter((one) => one.name.startsWith('command line of '));
  expect(await tokens()).toHaveLength(1);
  // The same service by another name stands for another one: both are kept, and each can be meant.
  const { host, port } = new URL(house.api.url);
  const signIns = async () =>
    JSON.parse((await tenedor(['--json', 'signed-in', 'list'], { env })).stdout) as { name: string; current: boolean }[];
  writeFileSync(file, JSON.stringify({ url: `http://localhost:${port}`, token: house.token }));
  expect((await tenedor(['sign-in', '--url', house.api.url], { input: PASSWORD, env })).code).toBe(0);
  expect((await signIns()).map((one) => [one.name, one.current])).toEqual([
    [`operator@localhost:${port}`, false],
    [`operator@${host}`, true],
  ]);
  expect((await tenedor(['status', '--at', `operator@localhost:${port}`], { env })).stdout).toContain('mail.host.example');
  expect(await tenedor(['status', '--at', 'nobody@nowhere.example'], { env })).toMatchObject({
    code: 2,
    stderr: expect.stringContaining(`operator@${host}`),
  });
  expect((await tenedor(['signed-in', 'use', `operator@localhost:${port}`], { env })).code).toBe(0);
  expect((await tenedor(['signed-in', 'remove', `operator@${host}`], { env })).stdout).toContain('its token revoked');
  expect([await tokens(), (await signIns()).map((one) => one.current)]).toEqual([[], [true]]);
  writeFileSync(file, '{"signIns": 7}');
  expect(await tenedor(['status'], { env })).toMatchObject({ code: 2, stderr: expect.stringContaining('is not a list of sign-ins') });
});

it('--demo leads to the demo or nowhere, whatever the environment says', async () => {
  const { code, stdout } = await tenedor(['--demo', 'status']);
  expect([0, 1, 2, 3, 4]).toContain(code);
  expect(stdout).not.toContain('mail.host.example');
});

it('shows who is locked out, and lets them try again', async () => {
  const { guards, clock } = house.service.context;
  expect((await line('lockout list')).stdout.trim()).toBe('Nobody is locked out.');
  for (let number = 0; number < 16; number += 1) guards.mailboxes.failed('2001:db8::7', 'nobody@here.example', clock.now());
  expect((await line('lockout list')).stdout).toMatch(
    /2001:db8::\/64 +mailboxes +16 [\s\S]*nobody@here\.example \(no mailbox here\) +mailboxes +16 /,
  );
  expect((await line('lockout lift 2001:db8::1:9')).stdout).toContain('2001:db8::1:9 can sign in again.');
  expect(await line('lockout lift rosa@here.example')).toMatchObject({
    code: 3,
    stderr: expect.stringContaining('rosa@here.example is not locked out.'),
  });
  expect((await line('lockout lift')).code).toBe(2);
  expect((await line('lockout lift NOBODY@here.example')).code).toBe(0);
});

describe('records and checks on the command line', () => {
  const json = async <T>(text: string): Promise<T> => JSON.parse((await line(`--json ${text}`)).stdout) as T;

  it('gives each record in four forms, one a line', async () => {
    await line('plan add checked');
    await tenedor(['customer', 'add', 'Checked']);
    await line('domain add checked.example --customer Checked --plan checked');
    const form = async (name: string) => (await line(`records checked.example --record dkim --form ${name}`)).stdout.trim();
    const [key] = await json<Key[]>('key list checked.example');
    expect(await form('name')).toBe(`${key?.selector}._domainkey.checked.example`);
    expect(await form('short-name')).toBe(`${key?.selector}._domainkey`);
    expect(await form('value')).toBe(key?.record.value);
    expect(await form('quoted')).toBe(key?.record.quoted);
    expect((await line('records checked.example --request')).stdout).toContain('192.0.2.25 should resolve to mail.host.example');
  });

  it('explains SPF as a tree; the exit code says whether we may send', async () => {
    house.dns.publish({ name: 'checked.example', type: 'TXT', value: 'v=spf1 include:inner.example ip4:203.0.113.1 -all' });
    house.dns.publish({ name: 'inner.example', type: 'TXT', value: `v=spf1 a:${HOST.name} ?all` });
    house.dns.withdraw(HOST.name);
    for (const [at, type] of (['A', 'AAAA'] as const).entries())
      house.dns.publish({ name: HOST.name, type, value: HOST.addresses[at] ?? '' });
    const bad = await line('spf explain checked.example --ip 203.0.113.9');
    expect(bad.code).toBe(1);
    expect(bad.stdout.split('\n').slice(5).join('\n').trimEnd()).toBe(
      [
        'checked.example  v=spf1 include:inner.example ip4:203.0.113.1 -all  → fail',
        '   ├─ include:inner.example  · no (inner.example says neutral)  [look-up 1]',
        '      inner.example  v=spf1 a:mail.host.example ?all  → neutral',
        '         ├─ a:mail.host.example  · no  [look-up 2]',
        '               A mail.host.example → 192.0.2.25',
        '         └─ ?all  ✓ matches (neutral)',
        '   ├─ ip4:203.0.113.1  · no',
        '   └─ -all  ✓ matches (fail)',
      ].join('\n'),
    );
    expect(await line('spf explain checked.example --ip 203.0.113.1')).toMatchObject({ code: 0 });
  });

  it('shows evidence, history, and the host’s own findings', async () => {
    expect((await line('check checked.example --evidence')).stdout).toMatch(/asked +203\.0\.113\.53: MX checked\.example → no such record/);
    expect((await line('check checked.example --history')).stdout).toMatch(/SPF +first seen → ✓ good/);
    const host = await line('host check');
    expect(host.code).toBe(1);
    expect(host.stdout).toContain('reverse-none');
    expect((await line('host check --history')).stdout).toContain('host');
  });

  it('keys: prepare, import, activate by force, list, remove', async () => {
    const file = join(house.folder, 'own.pem');
    writeFileSync(file, generateKeyPairSync('rsa', { modulusLength: 2048 }).privateKey.export({ format: 'pem', type: 'pkcs1' }));
    expect((await line(`key prepare checked.example --import ${file} --selector own`)).stdout).toContain('own._domainkey.checked.example');
    expect(await line('key activate checked.example own')).toMatchObject({
      code: 3,
      stderr: expect.stringContaining('is not published yet'),
    });
    expect((await line('key activate checked.example own --force')).code).toBe(0);
    const listed = (await line('key list checked.example')).stdout;
    expect(listed).toMatch(/own +rsa +active/);
    expect(listed).toContain('Leave its record published until');
    expect((await line('key prepare checked.example --type ed25519 --selector spare')).code).toBe(0);
    expect((await line('key remove checked.example spare --yes')).code).toBe(0);
  });

  it('networks and zones: add, list, remove', async () => {
    expect((await tenedor(['network', 'add', '198.51.100.0/24', '--note', 'choir list'])).stdout).toContain('198.51.100.0/24 is trusted.');
    expect((await line('network list')).stdout).toContain('choir list');
    expect((await line('network remove 198.51.100.0/24 --yes')).code).toBe(0);
    const file = join(house.folder, 'secret');
    writeFileSync(file, `${Buffer.from('a secret of some length').toString('base64')}\n`);
    expect((await line(`zone set checked.example --server 192.0.2.53 --key updates --secret-file ${file}`)).stdout).toContain(
      'updates (hmac-sha256)',
    );
    expect((await line('zone list')).stdout).toContain('checked.example');
    expect((await line('zone remove checked.example --yes')).code).toBe(0);
    expect(await line('records publish checked.example --dry-run')).toMatchObject({
      code: 3,
      stderr: expect.stringContaining('is not updated from here'),
    });
  });

  it.each([
    ['check --all checked.example', '--all works only with --letter.'],
    ['check checked.example --wait --resolver 192.0.2.1', '--wait uses the configured resolvers.'],
    ['check', 'No domain was named.'],
    ['records', 'No domain was named.'],
    ['records publish', 'Either a domain or --all is needed.'],
    ['records checked.example --form wide', 'it is one of name, short-name, value, quoted.'],
    ['key prepare checked.example --import /no/such/file --selector x', 'can’t be read: it does not exist.'],
    ['key prepare checked.example --type dsa', 'it is one of rsa, ed25519.'],
    ['zone set checked.example', '--server is missing'],
  ])('wrong use of “%s” is explained', async (text, words) => {
    const run = await line(text);
    expect(run.code).toBe(2);
    expect(run.stdout).toBe('');
    expect(run.stderr).toContain(words);
    expect(run.stderr.trimEnd().split('\n')).toHaveLength(2);
  });
});

describe('as scripts and shells use it', () => {
  const shell = async (script: string, env: Record<string, string> = {}): Promise<Run> => {
    const child = spawn('bash', ['-c', script], {
      env: { ...process.env, TENEDOR_URL: house.api.url, TENEDOR_TOKEN: house.token, T: PROGRAM, ...env },
    });
    const run: Run = { code: -1, stdout: '', stderr: '' };
    child.stdout.on('data', (bytes) => {
      run.stdout += bytes;
    });
    child.stderr.on('data', (bytes) => {
      run.stderr += bytes;
    });
    [run.code] = (await once(child, 'close')) as [number];
    return run;
  };

  it('a reader that goes away, or a disk that is full, leaves no stack behind', async () => {
    expect(await shell('set -o pipefail; $T manual | head -1; echo $?')).toMatchObject({
      stdout: expect.stringMatching(/^\.TH TENEDOR 1 .*\n0\n$/),
      stderr: '',
    });
    expect(await shell('$T customer list > /dev/full')).toEqual({
      code: 6,
      stdout: '',
      stderr: 'The result could not be written (ENOSPC).\nLook at where the output goes.\n',
    });
  });

  it('what exists already has a code of its own, and errors under --json are problem documents on stderr', async () => {
    await line('plan add weekly');
    expect((await line('plan add weekly')).code).toBe(5);
    const refused = await line('--json plan add weekly');
    expect(refused).toMatchObject({ code: 5, stdout: '' });
    expect(JSON.parse(refused.stderr)).toMatchObject({ status: 409, code: 'exists-already', detail: expect.stringContaining('weekly') });
    const wrong = await line('traffic --json --state delivred');
    expect([wrong.code, JSON.parse(wrong.stderr)]).toEqual([
      2,
      {
        type: '/problems/wrong-usage',
        title: 'wrong usage',
        detail: '--state can’t be “delivred”: it is one of queued, delivered, delayed, relayed, failed, refused.',
        code: 'wrong-usage',
        remedy: 'See: tenedor traffic --help',
        field: null,
      },
    ]);
    expect(JSON.parse((await line('--json queue')).stderr)).toMatchObject({ code: 'wrong-usage' });
    const gone = await tenedor(['--json', 'status'], { env: { TENEDOR_URL: 'http://127.0.0.1:1' } });
    expect([gone.code, JSON.parse(gone.stderr).code]).toEqual([4, 'unreachable']);
  });

  it('a misspelt domain is never nothing', async () => {
    for (const text of [
      'traffic --domain mispelt.example',
      'queue list --domain mispelt.example',
      'journal mispelt.example',
      'senders --domain mispelt.example',
    ])
      expect(await line(text), text).toMatchObject({
        code: 3,
        stdout: '',
        stderr: expect.stringContaining('mispelt.example is not on this server'),
      });
  });

  it('a change without anything to change is refused', async () => {
    await line('network add 192.0.2.0/24');
    for (const text of [
      'plan set weekly',
      'network set 192.0.2.0/24',
      'customer set Customer',
      'domain set x.example',
      'outlet set direct',
    ])
      expect(await line(text), text).toMatchObject({ code: 2, stderr: expect.stringContaining('No changes were given.') });
  });

  it('what can be none is set, and is none again', async () => {
    await house.provide('none.example', ['ana']);
    const of = async (text: string): Promise<Record<string, unknown>> => JSON.parse((await line(`--json ${text}`)).stdout);
    const set = '--largest 10M --storage 2G --storage-messages 7 --catch-all ana@none.example --sample yes';
    const told = { mostBytes: 10_485_760, storageBytes: 2 * 1024 ** 3, storageMessages: 7, catchAll: 'ana@none.example', isSampled: true };
    expect(await of(`domain set none.example ${set}`)).toMatchObject(told);
    const none = '--largest none --storage none --storage-messages none --catch-all none --sample no';
    const nothing = { mostBytes: null, storageBytes: null, storageMessages: null, catchAll: null, isSampled: false };
    expect(await of(`domain set none.example ${none}`)).toMatchObject(nothing);
    expect(await of('mailbox set ana@none.example --quota-messages 5')).toMatchObject({ mailbox: { quotaMessages: 5 } });
    expect(await of('mailbox set ana@none.example --quota-messages none')).toMatchObject({ mailbox: { quotaMessages: null } });
    expect(await line('domain set none.example --sample maybe')).toMatchObject({ code: 2, stderr: expect.stringContaining('maybe') });
  });

  it('a wrong value is wrong usage, in the words of the option', async () => {
    await house.provide('words.example');
    await line('customer add Bahia');
    for (const [text, option, words] of [
      ['mailbox set ana@shop.example --quota 1K', '--quota', '--quota can’t be 1024.'],
      ['plan add tiny --mailboxes 0', '--mailboxes', '--mailboxes can’t be 0.'],
      ['domain set words.example --catch-all nobody', '--catch-all', '“nobody” is not an address'],
      ['domain add olmo --customer Bahia', 'DOMAIN', 'only one label'],
      ['network add 192.0.2.300/24', 'CIDR', 'is not a network'],
      ['mailbox keep ana@shop.example Trash 0', 'DAYS', 'DAYS can’t be 0.'],
      ['notice set brake-set sunshine', 'EVENTS', 'EVENTS can’t be “sunshine”.'],
      ['twin add words.example %%', 'OF', 'is not a domain name'],
      ['pause %%', 'SCOPE', 'is not a domain name'],
      ['customer set Bahia --contact a@desk.example --if-revision é', '--if-revision', 'If-Match'],
    ] as const) {
      const run = await line(`--json ${text}`);
      expect([run.code, run.stdout], text).toEqual([2, '']);
      expect(JSON.parse(run.stderr)).toMatchObject({ code: 'bad-input', field: option, detail: expect.stringContaining(words) });
    }
  });

  it('a list is searched and sorted; the whole of it is given', async () => {
    const names = async (text: string): Promise<string[]> =>
      JSON.parse((await line(`--json customer list ${text}`)).stdout).map(({ name }: { name: string }) => name);
    await Promise.all(Array.from({ length: 12 }, (_none, at) => house.api.call('POST', '/customers', { name: `Barco ${at}` })));
    expect(await names('--search barco --reverse')).toHaveLength(12);
    expect((await names('--search barco --reverse'))[0]).toBe('Barco 9');
    expect((await line('customer list --search nobody')).stdout).toBe('Nothing matches “nobody”.\n');
    expect((await line('customer list --sort size')).stderr).toContain('it is one of name, domains, since');
  });

  it('a change is made only if nothing has changed, and once only, as asked', async () => {
    await line('customer add Bahia');
    const { revision } = JSON.parse((await line('--json customer show Bahia')).stdout);
    const set = (more: string) => line(`customer set Bahia --contact a@desk.example ${more}`);
    expect((await set(`--if-revision ${revision}`)).code).toBe(0);
    expect(await set(`--if-revision ${revision}`)).toMatchObject({ code: 3, stderr: expect.stringContaining('changed since you read it') });
    for (const _twice of [1, 2]) expect((await line('customer add Faro --once c-7')).code).toBe(0);
    expect((await line('customer add Faro')).code).toBe(5);
    expect((await line('customer add Vela --once c-7')).stderr).toContain('This key was used for another request.');
    expect(await line('customer show Faro --once c-8')).toMatchObject({ code: 2, stderr: expect.stringContaining('--once has no effect') });
  });

  it('times are in the zone of whoever asks, by its name, or in UTC', async () => {
    const there = await tenedor(['clock', 'show'], { env: { TZ: 'Asia/Tokyo' } });
    expect(there.stdout).toMatch(/machine +\d{4}-\d\d-\d\d \d\d:\d\d:\d\d Asia\/Tokyo/);
    const utc = await tenedor(['--utc', 'clock', 'show'], { env: { TZ: 'Asia/Tokyo' } });
    expect(utc.stdout).toMatch(/machine +\d{4}-\d\d-\d\d \d\d:\d\d:\d\d UTC/);
    const hour = (text: string): number => Number(/ (\d\d):/.exec(text)?.[1]);
    expect([9, -15]).toContain(hour(there.stdout) - hour(utc.stdout));
  });

  it('a shell completes nouns, verbs, options and their words, and names that the service knows', async () => {
    const completed = async (begun: string) => {
      const { stdout, stderr } = await shell(
        `source <($T completion --shell bash); COMP_LINE="$T ${begun}"; COMP_POINT=\${#COMP_LINE}; _tenedor 2>&1; echo "\${COMPREPLY[@]}"`,
      );
      expect(stderr).toBe('');
      return stdout.trim().split(' ');
    };
    expect(await completed('que')).toEqual(['queue']);
    expect(await completed('domain sh')).toEqual(['show']);
    expect(await completed('domain add x.example --ro')).toEqual(['--role']);
    expect(await completed('domain add x.example --role ')).toEqual(['home', 'pass-on', 'standby', 'away']);
    expect(await completed('domain show chec')).toEqual(['checked.example']);
    // Bash breaks words at an @: what it puts in stands behind that.
    expect(await completed('mailbox show ana@chec')).toEqual(['checked.example']);
    expect(await completed('move-plan skip checked.example short')).toEqual(['short-ttl']);
    expect(await completed('domain show nobody')).toEqual(["''"]);
    for (const name of ['zsh', 'fish']) expect((await line(`completion --shell ${name}`)).stdout).toContain(' complete -- ');
    expect(await tenedor(['completion'], { env: { SHELL: '/bin/ksh' } })).toMatchObject({ code: 2 });
  });

  it('each command has its place in the groups of the help', async () => {
    const { stdout } = await line('--help');
    expect(stdout).toContain('Every day:');
    expect(stdout).not.toContain('\nCommands:');
  });

  it('the manual page has every command, and is well formed', async () => {
    const { stdout } = await line('manual');
    for (const noun of ['records', 'queue retry', 'mailbox add', 'limit raise', 'serve']) expect(stdout).toContain(`.B ${noun}`);
    for (const text of stdout.trimEnd().split('\n')) expect(text).toMatch(/^(\.(TH|SH|SS|TP|B|I|RS|RE)\b.*|[^.'].*|\\&.*)$/);
  });
});
