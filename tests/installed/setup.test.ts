import { execFileSync, spawn, spawnSync } from 'node:child_process';
import { once } from 'node:events';
import {
  chmodSync,
  chownSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  writeFileSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { afterEach, beforeEach, expect, it } from 'vitest';
import { unit } from '../../src/operate/setup-files.ts';
import { PROJECT, VERSION } from '../../src/project.ts';
import { StandInDns } from '../../src/standins/dns-server.ts';
import { freePort, isFree } from '../../src/standins/free-port.ts';
import { configText } from '../support/house.ts';

/** A user that every Debian has, and that nobody is. */
const USER = 'daemon';
const isRoot = process.getuid?.() === 0;
let folder: string;
beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), 'tenedor-setup-'));
});
afterEach(() => {
  spawnSync('pkill', ['-KILL', '-f', `serve --config ${folder}`]);
  rmSync(folder, { recursive: true, force: true });
});

const program = join(PROJECT, 'tenedor');
function setup(more: string[] = []): { status: number | null; said: string } {
  const args = [
    'setup',
    '--config',
    join(folder, 'etc/tenedor.toml'),
    '--data',
    join(folder, 'data'),
    '--unit',
    join(folder, 'unit'),
    '--user',
    USER,
  ];
  const { status, stdout, stderr } = spawnSync(program, [...args, ...more], { encoding: 'utf8', input: '', timeout: 60_000 });
  return { status, said: stdout + stderr };
}
const HOST = [
  '--host',
  'mail.provider.example',
  '--address',
  '192.0.2.25',
  '--postmaster',
  'post@provider.example',
  '--resolver',
  '127.0.0.1',
];

it('makes configuration, folders, key file and unit with their owners, says what is left, and changes nothing the second time', () => {
  expect(setup()).toMatchObject({ status: 2, said: expect.stringContaining('--host NAME') });
  expect(setup(['--host', 'provider', ...HOST.slice(2)])).toMatchObject({ status: 2, said: expect.stringContaining('host.name') });
  const first = setup([...HOST, '--backups', join(folder, 'backups'), '--exports', join(folder, 'exports')]);
  expect(first.status).toBe(1);
  expect(first.said).toMatch(/mail\.provider\.example resolves to 192\.0\.2\.25.*no name server answers[\s\S]*The service runs.*not yet/);
  const about = (path: string): string => {
    const { mode, uid } = statSync(join(folder, path));
    return `${(mode & 0o777).toString(8)} ${uid === 0 ? 'root' : uid === process.getuid?.() ? 'own' : 'service'}`;
  };
  const service = isRoot ? 'service' : 'own';
  expect(about('data')).toBe(`700 ${service}`);
  expect(about('data/secrets.key')).toBe(`600 ${service}`);
  expect(about('backups')).toBe(`700 ${service}`);
  expect(about('exports')).toBe(`700 ${service}`);
  expect(readFileSync(join(folder, 'unit/tenedor.service'), 'utf8')).toMatch(
    new RegExp(`^ReadWritePaths=.* -${join(folder, 'exports')}$`, 'm'),
  );
  expect(about('etc/tenedor.toml')).toBe(`640 ${isRoot ? 'root' : 'own'}`);
  const files = ['etc/tenedor.toml', 'data/secrets.key', 'unit/tenedor.service'].map((one) => readFileSync(join(folder, one), 'utf8'));
  const second = setup([...HOST, '--host', 'other.provider.example']);
  expect(second.said).not.toContain('created');
  expect(['etc/tenedor.toml', 'data/secrets.key', 'unit/tenedor.service'].map((one) => readFileSync(join(folder, one), 'utf8'))).toEqual(
    files,
  );
  // As systemd reads it: no word that it does not know, and closed where it can be.
  const file = join(folder, 'unit/tenedor.service');
  const verified = spawnSync('systemd-analyze', ['verify', '--man=no', file], { encoding: 'utf8' });
  expect([verified.status, verified.stdout + verified.stderr]).toEqual([0, '']);
  const security = execFileSync('systemd-analyze', ['security', '--offline=true', '--no-pager', file], { encoding: 'utf8' });
  expect(Number(/exposure level for \S+: ([\d.]+)/.exec(security)?.[1])).toBeLessThan(2.5);
});

it('works whatever the umask, below folders that are not there, and at paths with spaces and percent signs', () => {
  const odd = join(folder, 'a disk/50% $HOME');
  const command = [program, 'setup', ...HOST, '--user', USER, '--config', join(odd, 'etc/tenedor.toml'), '--data', join(odd, 'var/data')];
  const more = ['--unit', join(folder, 'unit'), '--backups', join(odd, 'store/backups')];
  const { status, stdout, stderr } = spawnSync('sh', ['-c', 'umask 077; exec "$@"', 'sh', ...command, ...more], {
    encoding: 'utf8',
    input: '',
  });
  expect([status, stdout + stderr]).toEqual([1, expect.stringContaining('created')]);
  const mode = (path: string): string => (statSync(join(odd, path)).mode & 0o777).toString(8);
  expect(['.', 'etc', 'var', 'store'].map(mode)).toEqual(['755', '755', '755', '755']);
  expect(['var/data', 'store/backups', 'var/data/secrets.key', 'etc/tenedor.toml'].map(mode)).toEqual(['700', '700', '600', '640']);
  const file = join(folder, 'unit/tenedor.service');
  const verified = spawnSync('systemd-analyze', ['verify', '--man=no', file], { encoding: 'utf8' });
  expect([verified.status, verified.stdout + verified.stderr]).toEqual([0, '']);
  const text = readFileSync(file, 'utf8');
  const escaped = odd.replace('%', '%%');
  expect(text).toContain(`ReadWritePaths="${escaped}/var/data" "-${escaped}/store/backups"\n`);
  expect(text).toContain(`serve --config "${escaped.replace('$', '$$$$')}/etc/tenedor.toml"\n`);
});

it('what systemd would find wrong in a unit is found: the check can fail', () => {
  writeFileSync(
    join(folder, 'wrong.service'),
    unit({ program: '/no/such/program', config: 'x', user: USER, needed: ['/tmp'], usual: [] }).replace('ProtectClock=', 'ProtectTime='),
  );
  const { stdout, stderr } = spawnSync('systemd-analyze', ['verify', '--man=no', join(folder, 'wrong.service')], { encoding: 'utf8' });
  expect(stdout + stderr).toMatch(/ProtectTime[\s\S]*no\/such\/program/);
});

it('tells its manager that it is up, that it is alive, and that it ends', async () => {
  const dns = new StandInDns();
  const file = join(folder, 'tenedor.toml');
  writeFileSync(file, configText(folder, await dns.listen()));
  const socket = join(folder, 'notify');
  const listener = spawn('python3', [
    '-uc',
    `import socket,sys\ns=socket.socket(socket.AF_UNIX,socket.SOCK_DGRAM)\ns.bind(sys.argv[1])\nprint("open")\nwhile True: print(s.recv(4096).decode().replace("\\n"," "))`,
    socket,
  ]);
  let heard = '';
  listener.stdout.on('data', (some) => {
    heard += some;
  });
  await expect.poll(() => heard).toContain('open');
  const service = spawn(program, ['serve', '--config', file], {
    stdio: 'ignore',
    env: { ...process.env, NOTIFY_SOCKET: socket, WATCHDOG_USEC: '600000' },
  });
  await expect.poll(() => heard).toMatch(/READY=1[\s\S]*WATCHDOG=1[\s\S]*WATCHDOG=1/);
  service.kill('SIGTERM');
  await once(service, 'exit');
  await expect.poll(() => heard).toContain('STOPPING=1');
  listener.kill();
  dns.close();
});

it('started by root, it becomes its user and keeps the one right to open low ports; without the program it refuses', async () => {
  chmodSync(folder, 0o755);
  const data = join(folder, 'data');
  mkdirSync(data);
  const uid = Number(execFileSync('id', ['-u', USER], { encoding: 'utf8' }));
  if (isRoot) chownSync(data, uid, uid);
  let low = 900;
  while (isRoot && !(await isFree(low))) low += 1;
  const file = join(folder, 'tenedor.toml');
  const text = configText(folder, 53, { port: (service) => (service === 'smtp' && isRoot ? low : 0) });
  writeFileSync(file, `user = "${USER}"\n${text}`);
  const child = spawn(program, ['serve', '--config', file], { stdio: ['ignore', 'pipe', 'pipe'] });
  let said = '';
  for (const stream of [child.stdout, child.stderr])
    stream.on('data', (some) => {
      said += some;
    });
  await expect.poll(() => said).toContain('service is up');
  const status = readFileSync(`/proc/${child.pid}/status`, 'utf8');
  const own = isRoot ? uid : (process.getuid?.() ?? 0);
  expect(status).toMatch(new RegExp(`^Uid:\\t${own}\\t${own}\\t${own}\\t${own}$`, 'm'));
  // CAP_NET_BIND_SERVICE is the tenth (capability.h).
  if (isRoot) expect(status).toMatch(/^CapEff:\t0000000000000400$/m);
  if (isRoot) expect(said).toContain(`smtp 127.0.0.1:${low}`);
  expect(readdirSync(data).map((one) => statSync(join(data, one)).uid)).toEqual(readdirSync(data).map(() => own));
  child.kill('SIGTERM');
  expect(await once(child, 'exit')).toEqual([0, null]);
  const straight = spawnSync(process.execPath, [join(PROJECT, 'dist/tenedor.mjs'), 'serve', '--config', file], {
    encoding: 'utf8',
    timeout: 20_000,
    ...(isRoot ? {} : { killSignal: 'SIGTERM' as const, timeout: 3000 }),
  });
  expect(straight.stderr.includes('does not run as root')).toBe(isRoot);
});

it('the package that npm makes has the built service and console, and nothing that only tests or measures', () => {
  const [{ files }] = JSON.parse(
    execFileSync('npm', ['pack', '--dry-run', '--json', '--ignore-scripts'], {
      cwd: PROJECT,
      encoding: 'utf8',
      stdio: ['ignore', 'pipe', 'ignore'],
    }),
  ) as [{ files: { path: string }[] }];
  const paths = files.map((one) => one.path);
  for (const one of [
    'tenedor',
    'dist/tenedor.mjs',
    'dist/access-process.mjs',
    'dist/backup-thread.mjs',
    'dist/check-thread.mjs',
    'dist/transfer-thread.mjs',
    'dist/console/index.html',
    'tenedor.example.toml',
  ])
    expect(paths).toContain(one);
  expect(paths.filter((one) => /^(tests|src|scripts|console|\.)|bench\.mjs|endurance|test-report/.test(one))).toEqual([]);
});

/** The same package under another version. */
function packedAgain(file: string, version: string, change: (parts: string) => void = () => {}): string {
  const parts = join(folder, 'parts');
  execFileSync('dpkg-deb', ['--raw-extract', file, parts]);
  for (const path of ['DEBIAN/control', 'usr/lib/tenedor/package.json']) {
    const text = readFileSync(join(parts, path), 'utf8');
    writeFileSync(join(parts, path), text.replace(/(Version: |"version": ")[\d.]+/, `$1${version}`));
  }
  change(parts);
  const newer = join(folder, `tenedor_${version}.deb`);
  execFileSync('dpkg-deb', ['--root-owner-group', '-Zzstd', '-z1', '--build', parts, newer], { stdio: 'ignore' });
  rmSync(parts, { recursive: true });
  return newer;
}

it('the Debian package is installed, runs, and is removed, with nothing left but what it never made', async () => {
  const [file = ''] = execFileSync(process.execPath, ['scripts/package-deb.mjs', folder], {
    cwd: PROJECT,
    encoding: 'utf8',
    stdio: ['ignore', 'pipe', 'ignore'],
  })
    .trim()
    .split('\n');
  // Whoever unpacks it: the service's user gets to what is in it.
  expect(execFileSync('dpkg-deb', ['--contents', file], { encoding: 'utf8' })).toMatch(/^drwxr-xr-x .* \.\/\n/);
  const root = join(folder, 'root');
  for (const one of ['updates', 'info']) mkdirSync(join(root, 'var/lib/dpkg', one), { recursive: true });
  writeFileSync(join(root, 'var/lib/dpkg/status'), '');
  const dpkg = (...args: string[]): string =>
    execFileSync(
      'dpkg',
      [`--root=${root}`, '--force-script-chrootless', '--force-depends', '--force-not-root', '--force-unsafe-io', ...args],
      {
        encoding: 'utf8',
        stdio: ['ignore', 'pipe', 'pipe'],
      },
    );
  expect(dpkg('--install', file)).toContain('Set this host up with: tenedor setup');
  expect(dpkg('--status', 'tenedor')).toContain('Status: install ok installed');
  const installed = join(root, 'usr/bin/tenedor');
  expect(execFileSync(installed, ['--version'], { encoding: 'utf8' })).toMatch(/^\d+\.\d+\.\d+/);
  // Set up as the guide has it, but for its ports: the data is the service's user's, and root brings the program up to date.
  chmodSync(folder, 0o755);
  const config = join(folder, 'etc/tenedor.toml');
  const places = ['--config', config, '--data', join(folder, 'data'), '--backups', join(folder, 'backups'), '--unit', join(folder, 'unit')];
  expect(spawnSync(installed, ['setup', ...HOST, '--user', USER, ...places], { encoding: 'utf8' }).stdout).toContain('created');
  const ports = await Promise.all([...readFileSync(config, 'utf8').matchAll(/^port = /gm)].map(() => freePort()));
  writeFileSync(
    config,
    readFileSync(config, 'utf8')
      .replace(/^address = "0\.0\.0\.0"$/gm, 'address = "127.0.0.1"')
      .replace(/^port = .*$/gm, () => `port = ${ports.shift()}`),
  );
  const web = Number(/service = "web"[\s\S]*?port = (\d+)/.exec(readFileSync(config, 'utf8'))?.[1]);
  const answering = async (): Promise<unknown> =>
    ((await (await fetch(`http://127.0.0.1:${web}/healthz`)).json()) as { version: string }).version;
  const owners = (): Set<number> =>
    new Set(
      ['data', 'backups'].flatMap((one) =>
        ['.', ...readdirSync(join(folder, one), { recursive: true, encoding: 'utf8' })].map(
          (path) => statSync(join(folder, one, path)).uid,
        ),
      ),
    );
  const own = new Set([isRoot ? Number(execFileSync('id', ['-u', USER], { encoding: 'utf8' })) : process.getuid?.()]);
  spawn(installed, ['serve', '--config', config], { stdio: 'ignore', detached: true }).unref();
  await expect.poll(() => answering().catch(() => null), { timeout: 20_000 }).toBe(VERSION);

  // What dpkg installed is brought up to date, and taken back, by dpkg.
  const newer = packedAgain(file, '99.0.0');
  const update = (...words: string[]) =>
    spawnSync(installed, ['update', ...words, '--config', config], {
      encoding: 'utf8',
      env: { ...process.env, DPKG_ROOT: root, DPKG_FORCE: 'script-chrootless,depends,not-root,unsafe-io' },
    });
  const applied = update('apply', newer, '--watch', '0', '--within', '20');
  expect([applied.status, applied.stdout + applied.stderr]).toEqual([0, expect.stringContaining('The program of 99.0.0 is installed')]);
  expect(applied.stdout).toMatch(/Backup: \S+Z\./);
  expect([await answering(), owners()]).toEqual(['99.0.0', own]);
  expect(dpkg('--status', 'tenedor')).toContain('Version: 99.0.0');
  expect(execFileSync(installed, ['--version'], { encoding: 'utf8' }).trim()).toBe('99.0.0');
  expect(update('back', '--watch', '0', '--within', '20')).toMatchObject({ status: 0 });
  expect([await answering(), owners()]).toEqual([VERSION, own]);
  expect(dpkg('--status', 'tenedor')).toContain(`Version: ${VERSION}`);
  expect(execFileSync(installed, ['--version'], { encoding: 'utf8' }).trim()).toBe(VERSION);
  expect(update('apply', join(PROJECT, 'package.json'))).toMatchObject({ status: 3 });
  // A package that it brings with it is the program's, too.
  const changed = packedAgain(file, '99.0.1', (parts) => {
    const module = join(parts, 'usr/lib/tenedor/node_modules/better-sqlite3/lib/index.js');
    writeFileSync(module, `${readFileSync(module, 'utf8')}\n// changed on the way`);
  });
  expect(update('check', changed)).toMatchObject({ status: 3, stderr: expect.stringMatching(/is damaged: node_modules\/better-sqlite3/) });
  spawnSync('pkill', ['-TERM', '-f', `serve --config ${config}`]);
  await expect.poll(() => answering().catch(() => null)).toBe(null);
  const unit = join(root, 'etc/systemd/system/tenedor.service');
  mkdirSync(dirname(unit), { recursive: true });
  writeFileSync(unit, '[Service]\n');
  expect(existsSync(join(root, 'usr/lib/.tenedor.update'))).toBe(true);
  dpkg('--remove', 'tenedor');
  expect(existsSync(join(root, 'usr/lib/tenedor'))).toBe(false);
  expect(existsSync(unit)).toBe(true);
  dpkg('--purge', 'tenedor');
  expect(existsSync(join(root, 'usr'))).toBe(false);
  expect(existsSync(unit)).toBe(false);
});
