import { generateKeyPairSync } from 'node:crypto';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { basename, join } from 'node:path';
import type { Command } from 'commander';
import { afterAll, beforeAll, expect, it, vi } from 'vitest';
import { EXAMPLES } from '../../src/cli/examples.ts';
import { buildProgram, runProgram } from '../../src/cli/program.ts';
import { startService } from '../../src/compose/running-service.ts';
import { mboxEntry } from '../../src/core/transfer/mbox.ts';
import { PROJECT, VERSION } from '../../src/project.ts';
import { CertificateMaker } from '../../src/standins/certificate-maker.ts';
import { startWorld } from '../../src/standins/demo-start.ts';
import type { World } from '../../src/standins/demo-world.ts';
import { NAME_SERVER } from '../../src/standins/dns-server.ts';
import { OLD_PASSWORD, oldPasswordOf } from '../../src/standins/old-server.ts';
import { MOVING } from '../../src/standins/world.ts';

/** Every command that README, guide and operations show runs here, on the demo's data and in the documents' order; its outcome is looked at. */

const DOCUMENTS = ['README.md', 'docs/guide.md', 'docs/operations.md'];
const COMMAND = /^ {4}(?:\$ )?(?:\.\/)?tenedor (.*)$/;

const nothing = () => Promise.reject(new Error('this machine is not asked'));
const NOT_HERE = { config: '/nowhere', status: nothing, backupState: nothing };

/** The shown commands, without the remarks behind them and the marks of what may be left out. */
const shown = DOCUMENTS.flatMap((file) =>
  readFileSync(join(PROJECT, file), 'utf8')
    .split('\n')
    .flatMap((line, at) => {
      const text = COMMAND.exec(line)?.[1];
      return text === undefined
        ? []
        : [
            {
              where: `${file}:${at + 1}`,
              text: text
                .replace(/ +#.*$/, '')
                .replace(/[[\]]/g, '')
                .replace(/^--demo /, ''),
            },
          ];
    }),
);

interface Outcome {
  /** Exit codes that are right. */
  codes: number[];
  says: RegExp;
}
/** By how the command begins: the first that fits. What is started, or needs another state of things, is run by tests of its own. */
const EXPECTED: [string, number[], RegExp][] = [
  ['moved add', [0], /has moved; mail is forwarded until/],
  ['moved list', [0], /leo@elsewhere/],
  ['backup show', [0], /INBOX +\d/],
  ['backup recover', [0], /already there|restored/],
  ['import imap', [0], /290 messages copied/],
  ['import files', [0], /1 message copied/],
  ['export', [0], /All of it is in/],
  ['move-plan begin', [5], /velanorte\.example has a move plan already/],
  ['move-plan show', [0], /174 messages copied in 3 mailboxes/],
  ['move-plan next', [0], /Settings sheets +sheets +… under way/],
  ['move-plan', [0, 1], /velanorte\.example/],
  ['update list', [0], /0\.2\.0/],
  ['transfer show', [0], /transfer +3/],
  ['transfer again', [0], /already there/],
  ['records letters', [0], /SPF, DKIM/],
  ['plan add standard', [5], /plan “standard” already exists/],
  ['customer add "Puerto Azul"', [0], /added/],
  ['customer add', [5], /already/],
  ['domain add olmobakery', [5], /is already on this server/],
  ['domain add', [0], /is added for Olmo Bakery/],
  ['mailbox add shop-floor@', [0], /its members open it/],
  ['mailbox add', [5], /already/],
  ['alias add', [5], /already/],
  ['twin add', [0], /olmo-bread\.example/],
  ['domain set', [0], /olmobakery\.example/],
  ['records publish --all', [0], /olmobakery\.example/],
  ['records publish', [0], /the zone \S+ is up to date|changes? (to make|made) in the zone/],
  ['records olmobakery.example --letter', [0], /no changes needed|DNS of olmobakery/],
  ['records', [0], /olmobakery\.example|mail\.faroquieto\.example|v=DKIM1/],
  ['zone set', [0], /hmac-sha256/],
  ['check --all --letter', [1], /DNS of \S+: |No customer needs to change anything/],
  ['status', [0, 1], /needs attention|mail\.faroquieto\.example/],
  ['signed-in list', [0], /→ +operator@127\.0\.0\.1/],
  ['customer list', [0], /^customer .*\nOlmo Bakery/],
  ['mailbox share shop-floor@', [0], /ana@olmobakery\.example +writer/],
  ['mailbox members', [0], /ana@olmobakery\.example +writer/],
  ['mailbox removed', [0], /orders@olmobakery\.example .*kept until|kept until/],
  ['mailbox remove', [0], /orders@olmobakery\.example is removed\. Until 20/],
  ['mailbox restore', [0], /orders@olmobakery\.example is restored with \d+ messages?/],
  ['mailbox list', [0], /ana@olmobakery\.example/],
  ['mailbox show', [0], /Junk +\d+/],
  ['mailbox set ', [0], /copies to +ana\.home@northpost\.example/],
  ['mailbox sign-ins ana@olmobakery.example --history', [0], /signed in/],
  ['mailbox sign-ins', [0], /it must be the whole address/],
  ['completion', [0], /complete -F _tenedor tenedor/],
  ['manual', [0], /\.TH TENEDOR/],
  ['check --all', [1], /\d+ domains: \d+ good/],
  ['check olmobakery.example --history', [0], /olmobakery\.example/],
  ['check olmobakery.example --resolver', [0, 1], /readiness/],
  ['check', [0, 1], /readiness \d+ of 100/],
  ['host check', [0], /mail\.faroquieto\.example/],
  ['spf explain', [0, 1], /look-ups {2}\d+ of 10/],
  ['key list', [0], /active/],
  ['key prepare', [0], /_domainkey\.olmobakery\.example/],
  ['key activate', [3], /is not published|is not ready to sign|no key/],
  ['key retire', [3], /has no key/],
  ['limit', [0], /sends|bytes|carrier relay/],
  ['plan set', [0], /1,000 sends per day/],
  ['ledger', [0], /messages? with \d+ sends?/],
  ['statement', [0], /day,/],
  ['senders --days', [0], /Why sends failed/],
  ['senders', [0], /relayed/],
  ['brake list', [0], /brake +news@imprentalunar\.example|Nothing is paused, braked or stopped/],
  ['brake release', [0, 3], /may send again|has no brake set/],
  ['brake discard', [3], /no brake/],
  ['brake clear', [0, 3], /flagged/],
  ['pause', [0], /End it with: tenedor resume olmobakery\.example/],
  ['resume', [0], /no longer paused/],
  ['outlet add', [5], /already/],
  ['outlet test', [0], /sign-in/],
  ['outlet', [0], /carrier relay/],
  ['explain', [0, 1], /It would be/],
  ['traffic', [0], /time \(|No messages match/],
  ['journey', [0], /journey {2,}/],
  ['queue list', [0], /destination|No waiting messages match|The queue is empty|journey +from/],
  ['mailbox settings', [0], /Reading mail: mail\./],
  ['rehearse signin', [0], /Clients can sign in by every route/],
  ['rehearse relay', [0], /Relaying is refused everywhere/],
  ['rehearse send', [0, 1], /Decided here/],
  ['rehearse receive', [0], /can deliver to every host/],
  ['config', [0], /matches the file/],
  ['integrity', [0], /No problems found/],
  ['backup state', [0], /last good +20/],
  ['backup list', [0], /name +size/],
  ['backup runs', [0], /backup by hand/],
  ['backup verify', [0], /The database opens/],
  ['backup', [0], /A database of/],
  ['rehearse messages', [0], /Moon letter: last days of the winter sale/],
  ['rehearse message 1', [1], /\d+ of 100/],
  ['rehearse message', [0], /from any program or provider/],
  ['rehearse', [0], /signin|Sign-in to/],
  ['certificate list', [0], /mail\.tallernuno\.example +none/],
  ['certificate check', [1], /18 of \d+ checks failed/],
  ['certificate show', [0, 3], /asked for by|There is no certificate for/],
  ['certificate fetch', [0, 3], /fetched|cannot be validated/],
  ['lockout list', [0], /visit@marisma-museum\.example/],
  ['lockout lift', [0, 3], /can sign in again|is not locked out/],
  ['clock show', [0], /machine/],
  ['clock realign', [3], /is not ahead/],
];
/** Run by tests of their own: they start a service, need its first code, or never end. */
const ELSEWHERE = /^(update (check|apply|back)|setup|serve|sign-in|recover|restore|config check|journal --live) /;

let world: World;
const folder = mkdtempSync(join(tmpdir(), 'tenedor-documents-'));
const names = new Map<string, string>();
beforeAll(async () => {
  world = await startWorld(
    { folder, startService },
    { smtp: 0, submission: 0, submissions: 0, imap: 0, imaps: 0, pop3: 0, pop3s: 0, web: 0 },
    true,
  );
  const own = generateKeyPairSync('rsa', { modulusLength: 2048 });
  writeFileSync(join(folder, 'own.pem'), own.privateKey.export({ format: 'pem', type: 'pkcs8' }), { mode: 0o600 });
  writeFileSync(join(folder, 'tsig.key'), `${world.dns.updateKey?.secret ?? ''}\n`, { mode: 0o600 });
  names.set('/etc/tenedor/tsig.key', join(folder, 'tsig.key'));
  for (const path of ['/srv/old/mail.mbox', '/srv/ana', '/srv/olmo.tar.gz']) names.set(path, join(folder, basename(path)));
  writeFileSync(join(folder, 'mail.mbox'), mboxEntry(Buffer.from('Subject: old\r\n\r\n'), '', Date.now()));
  writeFileSync(join(folder, 'pau.txt'), `${OLD_PASSWORD}\n`);
  writeFileSync(join(folder, 'office.csv'), 'address,quota\nmia@rutaverde.example,1G\n');
  const rows = `user,password,address\nluz@${MOVING.domain},${oldPasswordOf('luz')},luz@${MOVING.domain}\n`;
  writeFileSync(join(folder, 'accounts.csv'), rows);
  writeFileSync(join(folder, 'customers.csv'), 'customer,contact\nCave Winery,\n');
  writeFileSync(join(folder, 'domains.csv'), 'domain,customer\ncave.example,Cave Winery\n');
  const bought = await (await CertificateMaker.make('Elsewhere', { days: 90, now: Date.now })).give(['mail.bought.example'], null);
  writeFileSync(join(folder, 'mail.pem'), bought.pem);
  writeFileSync(join(folder, 'mail.key'), bought.key ?? '');
  for (const file of ['office.csv', 'accounts.csv', 'customers.csv', 'domains.csv', 'mail.pem', 'mail.key', 'pau.txt'])
    names.set(file, join(folder, file));
  names.set('own.pem', join(folder, 'own.pem'));
  names.set('operator@127.0.0.1:8025', `operator@${new URL(world.webUrl).host}`);
  names.set('192.0.2.53', NAME_SERVER.address);
  names.set('--key tenedor', `--key ${world.dns.updateKey?.name}`);
  names.set(' --ask-password', ` --password-file ${join(folder, 'tsig.key')}`);
  process.env['TENEDOR_CLIENT'] = world.accessFile;
});
afterAll(async () => {
  await world.close();
  rmSync(folder, { recursive: true, force: true });
});

/** The words of a command as a shell makes them. */
const wordsOf = (text: string): string[] => [...text.matchAll(/(?:[^\s"]|"[^"]*")+/g)].map(([word]) => word.replaceAll('"', ''));

async function run(text: string): Promise<{ code: number; output: string }> {
  let line = text;
  for (const [written, meant] of names) line = line.replaceAll(written, meant);
  let output = '';
  const catchOutput = (piece: unknown): boolean => {
    output += String(piece);
    return true;
  };
  const spies = [
    vi.spyOn(process.stdout, 'write').mockImplementation(catchOutput),
    vi.spyOn(process.stderr, 'write').mockImplementation(catchOutput),
  ];
  try {
    await runProgram(
      buildProgram({ version: VERSION, demoAccessFile: world.accessFile, addServiceCommands: () => {}, onHost: NOT_HERE }),
      wordsOf(line),
    );
    return { code: Number(process.exitCode ?? 0), output };
  } finally {
    process.exitCode = undefined;
    for (const spy of spies) spy.mockRestore();
  }
}

it('the documents show commands, and each of them is one that is known here', () => {
  expect(shown.length).toBeGreaterThan(50);
  for (const { text, where } of shown)
    expect(ELSEWHERE.test(`${text} `) || EXPECTED.some(([beginning]) => text.startsWith(beginning)), `${where}: ${text}`).toBe(true);
});

it('each figure that an alert or the dashboard looks at is one that the service tells, with its labels', async () => {
  const told = (await (await fetch(`${world.webUrl}/metrics`)).text()).split('\n').filter((line) => !line.startsWith('#'));
  const looked = new Set(readFileSync(join(PROJECT, 'docs/operations.md'), 'utf8').match(/\btenedor_[a-z]\w+/g));
  expect(looked.size).toBeGreaterThan(8);
  for (const name of looked) {
    // A counter with labels has no line before it has counted.
    const isThere = told.some((line) => line.startsWith(`${name} `) || line.startsWith(`${name}{`)) || name === 'tenedor_faults_total';
    expect(isThere, name).toBe(true);
  }
  const dashboard = JSON.parse(readFileSync(join(PROJECT, 'docs/dashboard.json'), 'utf8')) as {
    panels: { targets: { expr: string; legendFormat: string }[] }[];
  };
  for (const { expr, legendFormat } of dashboard.panels.flatMap((one) => one.targets)) {
    const name = /tenedor_\w+/.exec(expr)?.[0];
    if (!name) continue;
    const labels = [...legendFormat.matchAll(/\{\{(\w+)\}\}/g)].map(([, label]) => label);
    const line = told.find((one) => one.startsWith(`${name} `) || one.startsWith(`${name}{`));
    expect(line, name).toBeDefined();
    for (const label of labels) expect(line).toContain(`${label}="`);
  }
  expect(told.find((line) => line.startsWith('tenedor_backup_overdue'))).toBe('tenedor_backup_overdue 0');
  expect(told.find((line) => line.startsWith('tenedor_stored_data_whole'))).toBe('tenedor_stored_data_whole 1');
});

it('each command that the documents show does what they say', async () => {
  const wrong: string[] = [];
  for (const { where, text } of shown.filter((one) => !ELSEWHERE.test(`${one.text} `))) {
    const [, codes, says] = EXPECTED.find(([beginning]) => text.startsWith(beginning)) as [string, Outcome['codes'], Outcome['says']];
    // What was typed a moment ago has arrived: nobody waits here for a cache.
    if (text.includes('--wait')) world.resolver.forget();
    // Destructive ones would ask.
    const { code, output } = await run(
      /^(records publish|brake discard|clock realign|mailbox remove )/.test(text) && !text.includes('--dry-run') ? `${text} --yes` : text,
    );
    if (!codes.includes(code) || !says.test(output)) wrong.push(`${where}: ${text} → ${code}\n${output.slice(0, 400)}`);
  }
  expect(wrong.join('\n\n')).toBe('');
});

/** Where the right answer is another one than “done”: a check that finds something, or something that is not there (any more). */
const OTHERWISE: Record<string, number[]> = {
  status: [0, 1],
  check: [0, 1],
  'spf explain': [0, 1],
  'host check': [0, 1],
  'outlet test': [0, 1],
  'rehearse message': [1],
  'webhook test': [1],
  'queue show': [0, 3],
  'queue retry': [0, 3],
  'queue hold': [0, 3],
  'queue release': [0, 3],
  'queue drop': [3],
  'moved add': [0, 5],
  export: [0, 2],
  'move-plan begin': [5],
  'move-plan next': [0, 1, 3],
  'move-plan undo': [0, 1, 3],
  'move-plan skip': [0, 1, 3],
  'move-plan accounts': [0, 1],
  'transfer resume': [3],
  'transfer again': [0, 3],
  'brake release': [0, 3],
  'brake discard': [0, 3],
  'brake clear': [0, 3],
  'limit raise': [0, 2],
  'domain add': [0, 5],
  'lockout lift': [0, 3],
  'clock realign': [3],
  'signed-in use': [0, 2],
  'signed-in remove': [2],
  'token add': [0],
};

it('each command has an example in its help, which is right', async () => {
  const program = buildProgram({ version: VERSION, demoAccessFile: world.accessFile, addServiceCommands: () => {}, onHost: NOT_HERE });
  const leaves = (command: Command, path: string): string[] =>
    command.commands.length === 0
      ? [path]
      : [
          ...(command.registeredArguments.length > 0 ? [path] : []),
          ...command.commands.flatMap((one) => leaves(one, `${path} ${one.name()}`)),
        ];
  const paths = program.commands.filter((one) => one.name() !== 'complete').flatMap((one) => leaves(one, one.name()));
  const elsewhere = [
    'update check',
    'update apply',
    'update back',
    'setup',
    'serve',
    'recover',
    'restore',
    'config check',
    'demo',
    'sign-in',
  ];
  expect(
    Object.keys(EXAMPLES)
      .filter((one) => !elsewhere.includes(one))
      .sort(),
  ).toEqual(paths.filter((one) => !elsewhere.includes(one)).sort());
  const wrong: string[] = [];
  for (const [path, example] of Object.entries(EXAMPLES)) {
    if (elsewhere.includes(path)) continue;
    const { code, output } = await run(`${path} ${example}`);
    if (!(OTHERWISE[path] ?? [0]).includes(code)) wrong.push(`${path} ${example} → ${code}\n${output.slice(0, 300)}`);
  }
  expect(wrong.join('\n\n')).toBe('');
});
