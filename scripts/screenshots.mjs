// Takes the pictures of docs/screenshots from a fresh demo: each page in Chromium, each main command in a terminal window.
// Needs chromium, and for the commands xvfb, xterm and imagemagick (Debian's packages).
import { spawn, spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { chromium } from 'playwright-core';

const project = fileURLToPath(new URL('..', import.meta.url));
const [folder = join(project, 'docs/screenshots'), look = 'light', width = '1280', only = ''] = process.argv.slice(2);
mkdirSync(folder, { recursive: true });

const demo = spawn(process.execPath, [join(project, 'dist/tenedor.mjs'), 'demo'], { stdio: ['ignore', 'pipe', 'inherit'] });
const printed = await new Promise((resolve, reject) => {
  let text = '';
  demo.stdout.on('data', (bytes) => {
    text += bytes;
    if (text.includes('Ctrl-C')) resolve(text);
  });
  demo.on('exit', () => reject(new Error(`the demo did not start:\n${text}`)));
});

const PAGES = [
  ['overview', '/'],
  ['domains', '/domains'],
  ['domain-set-up', '/domains/rutaverde.example'],
  ['domain-records', '/domains/coropuerto.example?tab=records'],
  ['domain-mailboxes', '/domains/olmobakery.example?tab=mailboxes'],
  ['domain-sending', '/domains/imprentalunar.example?tab=sending'],
  ['domain-move', '/domains/velanorte.example?tab=move'],
  ['traffic', '/traffic'],
  ['journey', null],
  ['message', '/tests?tab=messages&message=1'],
  ['queue', '/queue'],
  ['tests', '/tests?number=1'],
  ['certificates', '/certificates'],
  ['upkeep', '/upkeep'],
  ['upkeep-mail', '/upkeep?tab=mail&transfer=3'],
  ['host', '/host'],
];

const COMMANDS = [
  ['command-status', ['status']],
  ['command-check', ['check', 'rutaverde.example']],
  ['command-journey', null],
];

try {
  const [access] = JSON.parse(readFileSync(join(project, '.demo/client.json'), 'utf8')).signIns;
  const delayed = await fetch(`${access.url}/api/v1/journeys?state=delayed`, { headers: { authorization: `Bearer ${access.token}` } }).then(
    (response) => response.json(),
  );
  const journey = delayed.rows[0].id;
  await carry(access);
  await pages(journey);
  if (look === 'light' && width === '1280') commands(journey);
} finally {
  demo.kill('SIGTERM');
}

/** What the page of carried mail shows: a mailbox from the old server, and an export. */
async function carry({ url, token }) {
  const headers = { authorization: `Bearer ${token}`, 'content-type': 'application/json' };
  const begin = async (path, body) => {
    const answer = await fetch(`${url}/api/v1/transfers/${path}`, { method: 'POST', headers, body: JSON.stringify(body) });
    const { id } = await answer.json();
    for (let state = 'under-way'; state === 'under-way'; ) {
      await new Promise((resolve) => setTimeout(resolve, 200));
      ({ state } = await (await fetch(`${url}/api/v1/transfers/${id}`, { headers })).json());
    }
  };
  const account = { user: 'pau@tallernuno.example', password: 'old-harbour-4471', into: 'pau@tallernuno.example' };
  await begin('import-imap', { host: 'mx.oldharbour.example', accounts: [account] });
  await begin('recover', { whose: 'ana@olmobakery.example', folder: 'Sent', isWhole: true });
  await begin('export', { what: 'customer', name: 'Olmo Bakery', path: join(project, '.demo/olmo.tar.gz'), isArchive: true });
}

async function pages(journey) {
  const code = /one-time code {2}(\S+)/.exec(printed)[1];
  const base = /Console +(\S+)\//.exec(printed)[1];
  const profile = join(tmpdir(), `tenedor-pictures-${process.pid}`);
  const context = await chromium.launchPersistentContext(profile, {
    executablePath: '/usr/bin/chromium',
    args: [
      '--no-sandbox',
      '--disable-gpu',
      '--disable-quic',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
      '--no-first-run',
    ],
    viewport: { width: Number(width), height: 800 },
    colorScheme: look,
  });
  const page = context.pages()[0] ?? (await context.newPage());
  await page.goto(`${base}/sign-in#${code}`);
  await page.getByLabel('New password').fill('calm-harbour-lantern');
  await page.getByRole('button', { name: 'Set the password and sign in' }).click();
  await page.getByRole('heading', { name: 'Overview' }).waitFor();
  for (const [name, path] of PAGES) {
    if (only !== '' && !name.startsWith(only)) continue;
    await page.goto(`${base}${path ?? `/traffic/${journey}`}`);
    // Pages keep a line open for news, so the network is never idle.
    await page.waitForLoadState('load');
    await page.waitForFunction(() => document.querySelector('h1') && !document.querySelector('[aria-label="Loading"]'));
    await page.waitForTimeout(600);
    await page.screenshot({ path: join(folder, `${name}.png`), fullPage: only !== '' });
  }
  await context.close();
  rmSync(profile, { recursive: true, force: true });
}

/** Runs each command in an xterm under Xvfb and takes a picture of the window. */
function commands(journey) {
  if (!existsSync('/usr/bin/xterm') || !existsSync('/usr/bin/Xvfb')) return;
  const server = spawn('Xvfb', [':87', '-screen', '0', '1320x860x24'], { stdio: 'ignore' });
  try {
    for (const [name, args] of COMMANDS) {
      if (only !== '' && !name.startsWith(only)) continue;
      const words = args ?? ['journey', journey];
      const done = join(tmpdir(), `tenedor-terminal-${process.pid}`);
      const script = `${done}.sh`;
      writeFileSync(
        script,
        `printf '$ ./tenedor --demo ${words.join(' ')}\\n'\n./tenedor --demo ${words.join(' ')}\nprintf '\\n$ '\ntouch ${done}\nsleep 30\n`,
      );
      const terminal = spawn(
        'xterm',
        [
          '-display',
          ':87',
          '-geometry',
          '157x46+0+0',
          '-fa',
          'DejaVu Sans Mono',
          '-fs',
          '10',
          '-bg',
          '#12191a',
          '-fg',
          '#e4e9e5',
          '-xrm',
          'xterm*color2: #74c794',
          '-xrm',
          'xterm*color1: #f08b7e',
          '-xrm',
          'xterm*color3: #e8b55b',
          '-xrm',
          'xterm*color6: #5fb8c0',
          '-e',
          'bash',
          script,
        ],
        { cwd: project, stdio: 'ignore' },
      );
      const limit = Date.now() + 20_000;
      while (!existsSync(done) && Date.now() < limit) spawnSync('sleep', ['0.2']);
      spawnSync('sleep', ['0.6']);
      const picture = join(folder, `${name}.png`);
      spawnSync('import', ['-display', ':87', '-window', 'root', picture], { stdio: 'inherit' });
      spawnSync('convert', [picture, '-crop', '1256x780+2+2', '+repage', '-trim', '-bordercolor', '#12191a', '-border', '14', picture]);
      terminal.kill('SIGKILL');
      rmSync(done, { force: true });
      rmSync(script, { force: true });
    }
  } finally {
    server.kill();
  }
}
