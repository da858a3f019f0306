// node scripts/released-data.mjs [FOLDER]: makes tests/released/VERSION.tar.gz, a data directory as the built program of that folder leaves it, with
// what is in it. Done once for each version that is released; every later one must open it (tests/store/released.test.ts).
import { execFileSync, spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { ImapFlow } from 'imapflow';
import { createTransport } from 'nodemailer';

const project = fileURLToPath(new URL('..', import.meta.url));
const program = resolve(process.argv[2] ?? project);
const { version } = JSON.parse(readFileSync(join(program, 'package.json'), 'utf8'));
const PASSWORD = 'a calm harbour';
const folder = mkdtempSync(join(tmpdir(), 'tenedor-released-'));

const freePort = async () => {
  const server = createServer().listen(0, '127.0.0.1');
  await once(server, 'listening');
  const { port } = server.address();
  server.close();
  return port;
};
const ports = { web: await freePort(), submissions: await freePort(), imaps: await freePort() };
const listeners = Object.entries(ports).map(
  ([service, port]) => `[[listener]]\nservice = "${service}"\naddress = "127.0.0.1"\nport = ${port}\n`,
);
const config = join(folder, 'tenedor.toml');
writeFileSync(
  config,
  [
    'data = "data"\n[host]\nname = "mail.host.example"\naddresses = ["192.0.2.25"]\npostmaster = "ana@shop.example"\n',
    // Nobody answers there: what leads outside waits in the queue.
    '[dns]\nresolvers = ["127.0.0.1:9"]\ntimeout_ms = 200\n[checks]\nevery_minutes = 0\n',
    ...listeners,
  ].join('\n'),
);
const child = spawn(join(program, 'tenedor'), ['serve', '--config', config], { stdio: ['ignore', 'pipe', 'pipe'] });
let said = '';
await new Promise((done, failed) => {
  for (const stream of [child.stdout, child.stderr])
    stream.on('data', (some) => {
      said += some;
      if (said.includes('one-time code')) done();
    });
  child.once('exit', () => failed(new Error(said)));
});

const base = `http://127.0.0.1:${ports.web}/api/v1`;
const json = { 'content-type': 'application/json' };
const code = /one-time code (\S+)/.exec(said)[1];
const signIn = await fetch(`${base}/session`, {
  method: 'POST',
  headers: json,
  body: JSON.stringify({ name: 'operator', code, password: 'a calm harbour at night' }),
});
const headers = { ...json, cookie: signIn.headers.get('set-cookie').split(';')[0], 'x-tenedor-csrf': (await signIn.json()).csrfToken };
async function call(method, path, body) {
  const response = await fetch(base + path, { method, headers, ...(body ? { body: JSON.stringify(body) } : {}) });
  if (!response.ok) throw new Error(`${method} ${path}: ${await response.text()}`);
  return response.json();
}

const made = [
  ['/plans', { name: 'standard', limits: [{ period: 'day', quantity: 'sends', amount: 500 }] }],
  ['/customers', { name: 'Olmo', contact: 'ana@shop.example' }],
  ['/domains', { name: 'shop.example', customer: 'Olmo' }],
  ['/domains', { name: 'bücher.example', customer: 'Olmo' }],
  ['/domains', { name: 'office.example', customer: 'Olmo', role: 'pass-on', primaryServer: 'mx.office.example' }],
  ['/mailboxes', { address: 'ana@shop.example', password: PASSWORD }],
  ['/mailboxes', { address: 'leo@shop.example', password: PASSWORD, quotaBytes: 50_000_000 }],
  ['/mailboxes', { address: 'gone@shop.example', password: PASSWORD }],
  ['/mailboxes', { address: 'team@shop.example', shared: true }],
  ['/aliases', { address: 'sales@shop.example', targets: ['ana@shop.example', 'far@elsewhere.example'] }],
  ['/mailboxes/ana@shop.example/app-passwords', { name: 'phone' }],
  ['/outlets', { name: 'carrier', kind: 'smart-host', host: 'relay.example', user: 'us', password: 'carried words', isOn: false }],
  ['/networks', { cidr: '198.51.100.0/24', note: 'office', maySubmit: true }],
  ['/webhooks', { url: 'http://127.0.0.1:9/hook' }],
  ['/moved-addresses', { address: 'old@shop.example', to: 'old@elsewhere.example', forwardDays: 0 }],
  ['/tokens', { name: 'script' }],
];
for (const [path, body] of made) await call('POST', path, body);
await call('PUT', '/mailboxes/team@shop.example/members', { member: 'ana@shop.example', as: 'manager' });
await call('PUT', '/zones', { name: 'shop.example', server: '192.0.2.53', keyName: 'updates', secret: 'cXVpZXQgbGlnaHRob3VzZSBrZXk=' });
await call('DELETE', '/mailboxes/gone@shop.example');

const mail = createTransport({
  ...{ host: '127.0.0.1', port: ports.submissions, secure: true, tls: { rejectUnauthorized: false } },
  auth: { user: 'ana@shop.example', pass: PASSWORD },
});
for (const to of ['leo@shop.example', 'far@elsewhere.example', 'sales@shop.example'])
  await mail.sendMail({ from: 'ana@shop.example', to, subject: `To ${to}`, text: 'Bread is ready.' });
mail.close();
const imap = new ImapFlow({
  ...{ host: '127.0.0.1', port: ports.imaps, secure: true, logger: false, tls: { rejectUnauthorized: false } },
  auth: { user: 'ana@shop.example', pass: PASSWORD },
});
await imap.connect();
await imap.mailboxCreate('Projects/Año');
await imap.append(
  'Projects/Año',
  'From: eva@far.example\r\nSubject: =?utf-8?q?Le=C3=B1a?=\r\n\r\nx\r\n',
  ['\\Seen', '\\Flagged', 'work'],
  new Date(1_700_000_000_000),
);
await imap.append('Drafts', 'From: ana@shop.example\r\nSubject: unfinished\r\n\r\n', ['\\Draft']);
const folders = {};
for (const { path, flags } of await imap.list()) {
  if (flags.has('\\Noselect') || flags.has('\\NonExistent')) continue;
  const lock = await imap.getMailboxLock(path, { readOnly: true });
  const messages = [];
  for await (const one of imap.fetch('1:*', { uid: true, envelope: true, flags: true, internalDate: true }))
    messages.push({
      uid: one.uid,
      subject: one.envelope.subject ?? '',
      flags: [...one.flags].sort(),
      at: new Date(one.internalDate).getTime(),
    });
  folders[path] = { uidValidity: String(imap.mailbox.uidValidity), messages };
  lock.release();
}
await imap.logout();

const rows = async (path, names) => (await call('GET', path)).rows.map((row) => Object.fromEntries(names.map((name) => [name, row[name]])));
const LISTS = {
  '/customers': ['name', 'contact'],
  '/plans': ['name', 'quotaBytes', 'mostMailboxes'],
  '/domains': ['name', 'customer', 'plan', 'role', 'primaryServer', 'mailboxes', 'usedMessages'],
  '/domains/shop.example/mailboxes': ['address', 'messages', 'usedBytes', 'quotaBytes'],
  '/domains/shop.example/aliases': ['address', 'targets'],
  '/domains/shop.example/keys': ['selector', 'type', 'state'],
  '/domains/shop.example/moved-addresses': ['address', 'to'],
  '/mailboxes/team@shop.example/members': ['address', 'as', 'rights'],
  '/outlets': ['name', 'kind', 'host', 'user', 'isOn'],
  '/networks': ['cidr', 'note', 'maySubmit'],
  '/webhooks': ['url', 'events'],
  '/zones': ['name', 'server', 'keyName'],
  '/tokens': ['name'],
  '/queue': ['sender', 'address'],
};
const lists = {};
for (const [path, names] of Object.entries(LISTS)) lists[path] = await rows(path, names);
const { total: removed } = await call('GET', '/domains/shop.example/removed-mailboxes');
child.kill('SIGTERM');
await once(child, 'exit');

writeFileSync(join(folder, 'expected.json'), `${JSON.stringify({ version, password: PASSWORD, lists, removed, folders }, null, 1)}\n`);
const target = join(project, `tests/released/${version}.tar.gz`);
const parts = ['expected.json', 'data'];
execFileSync('tar', ['--sort=name', '--owner=0', '--group=0', '--exclude=lock.db', '-czf', target, '-C', folder, ...parts]);
rmSync(folder, { recursive: true });
console.log(target);
