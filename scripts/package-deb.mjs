// npm run package:deb [FOLDER]: a Debian package of the built service, with what it needs from npm; needs dpkg-deb.
import { execFileSync } from 'node:child_process';
import {
  chmodSync,
  cpSync,
  existsSync,
  lstatSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join, relative, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { writeChecksums } from './checksums.mjs';

const project = fileURLToPath(new URL('..', import.meta.url));
const place = resolve(process.argv[2] ?? join(project, 'dist'));
const { version, description } = JSON.parse(readFileSync(join(project, 'package.json'), 'utf8'));
const HOME = 'usr/lib/tenedor';

if (!existsSync(join(project, 'dist/tenedor.mjs'))) execFileSync('node', ['scripts/prepare.mjs'], { cwd: project, stdio: 'inherit' });
/** Packages in packages come by themselves; what compiles, types and describes is not needed to run. */
const isNeeded = (path, name) =>
  !/(^|\/)node_modules(\/|$)/.test(path) &&
  !/\.(d\.[cm]?ts|map|md|markdown)$|(^|\/)(dist-types|test|tests|docs|example|examples)$/.test(path) &&
  !(name.endsWith('better-sqlite3') && /^(deps|src|build\/(Release\/(obj|\.deps)|deps))/.test(path));
const root = mkdtempSync(join(tmpdir(), 'tenedor-deb-'));
/** Everybody may read it, whatever the builder's umask: the service runs as a user of its own. */
const openUp = (path) => {
  const about = lstatSync(path);
  if (about.isSymbolicLink()) return;
  chmodSync(path, about.isDirectory() || about.mode & 0o100 ? 0o755 : 0o644);
  if (about.isDirectory()) for (const name of readdirSync(path)) openUp(join(path, name));
};
try {
  const put = (path, text, mode = 0o644) => {
    mkdirSync(dirname(join(root, path)), { recursive: true });
    writeFileSync(join(root, path), text);
    chmodSync(join(root, path), mode);
  };
  // What npm would put into its package, and the packages that it needs.
  const [{ files }] = JSON.parse(
    execFileSync('npm', ['pack', '--dry-run', '--json', '--ignore-scripts'], { cwd: project, encoding: 'utf8' }),
  );
  for (const { path } of files) cpSync(join(project, path), join(root, HOME, path));
  const needed = execFileSync('npm', ['ls', '--omit=dev', '--all', '--parseable'], { cwd: project, encoding: 'utf8' }).split('\n').slice(1);
  for (const folder of needed.filter((one) => one !== '' && existsSync(one))) {
    const path = relative(project, folder);
    cpSync(folder, join(root, HOME, path), {
      recursive: true,
      filter: (one) => isNeeded(relative(folder, one), path),
    });
  }
  writeChecksums(join(root, HOME), true);
  mkdirSync(join(root, 'usr/bin'), { recursive: true });
  symlinkSync('../lib/tenedor/tenedor', join(root, 'usr/bin/tenedor'));
  put('usr/share/doc/tenedor/changelog', readFileSync(join(project, 'CHANGELOG.md'), 'utf8'));
  const size = Number(execFileSync('du', ['-sk', root], { encoding: 'utf8' }).split('\t')[0]);
  put(
    'DEBIAN/control',
    `Package: tenedor\nVersion: ${version}\nSection: mail\nPriority: optional\nArchitecture: ${execFileSync('dpkg', ['--print-architecture'], { encoding: 'utf8' }).trim()}\n` +
      `Maintainer: Faro Quieto <packages@faroquieto.example>\nInstalled-Size: ${size}\nDepends: nodejs (>= 20.19), util-linux, passwd\nRecommends: systemd\nDescription: ${description}\n Node.js 20.19 or newer is required, 24 is recommended: from your distribution\n where it has one of these, otherwise from the Node.js project's packages.\n`,
  );
  put(
    'DEBIAN/postinst',
    `#!/bin/sh\nset -e\nif [ "$1" = configure ] && [ -z "$2" ]; then\n  echo "Tenedor is installed. Set this host up with: tenedor setup"\nfi\n` +
      `if [ "$1" = configure ] && [ -n "$2" ] && [ -d /run/systemd/system ]; then\n  systemctl daemon-reload\n  systemctl try-restart tenedor.service\nfi\n`,
    0o755,
  );
  put(
    'DEBIAN/prerm',
    `#!/bin/sh\nset -e\nif [ "$1" = remove ] && [ -d /run/systemd/system ]; then\n  systemctl disable --now tenedor.service 2>/dev/null || true\nfi\n`,
    0o755,
  );
  // Mail is never deleted by taking a program away. What updates kept to go back is.
  put(
    'DEBIAN/postrm',
    `#!/bin/sh\nset -e\nif [ "$1" = remove ] || [ "$1" = purge ]; then\n  rm -rf "$DPKG_ROOT/usr/lib/.tenedor.update"\nfi\n` +
      `if [ "$1" = purge ]; then\n  rm -f "$DPKG_ROOT/etc/systemd/system/tenedor.service"\n  if [ -d /run/systemd/system ]; then systemctl daemon-reload; fi\n  echo "Mail and configuration stay in /var/lib/tenedor and /etc/tenedor."\nfi\n`,
    0o755,
  );
  openUp(root);
  mkdirSync(place, { recursive: true });
  const file = join(place, `tenedor_${version}.deb`);
  execFileSync('dpkg-deb', ['--root-owner-group', '-Zzstd', '--build', root, file], { stdio: 'pipe' });
  console.log(file);
} finally {
  rmSync(root, { recursive: true, force: true });
}
