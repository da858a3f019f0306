import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { dirname, join, normalize } from 'node:path';
import { fileURLToPath } from 'node:url';
import { expect, it } from 'vitest';
import * as vocabulary from '../src/core/vocabulary.ts';

const PROJECT = fileURLToPath(new URL('..', import.meta.url));

/** Which parts each part of src may import (docs/architecture.md). */
const ALLOWED: Record<string, string[]> = {
  core: [],
  threads: ['.'],
  // Texts are for all faces; they know the vocabulary.
  texts: ['core'],
  resources: [],
  store: ['core', 'threads'],
  dns: ['core', 'threads'],
  service: ['core', 'store', 'dns', 'threads'],
  net: ['core', 'service'],
  access: ['core', 'store', 'net'],
  api: ['core', 'store', 'service'],
  cli: ['api'],
  standins: ['core', 'store', 'dns', 'net', 'service', 'compose', 'cli', '.'],
  compose: ['core', 'store', 'dns', 'net', 'access', 'service', 'api', 'threads', '.'],
  operate: ['core', 'store', 'dns', 'net', 'service', 'compose', 'standins', 'cli', '.'],
  programs: ['compose', 'operate', 'access', 'service', 'store', 'net', 'dns', 'core', 'cli', 'threads', '.'],
  console: ['api'],
  '.': [],
};
/** The rooms of src/service, and which others each may use: there is no way round in a circle (docs/architecture.md). */
const ALL_BELOW = [
  ...['base', 'directory', 'access', 'limits', 'acceptance', 'dns', 'certificates'],
  ...['delivery', 'reception', 'journal', 'notices', 'mailbox', 'backups', 'transfers'],
];
const ROOMS: Record<string, string[]> = {
  base: [],
  directory: ['base'],
  access: ['base', 'directory'],
  limits: ['base', 'directory'],
  acceptance: ['base', 'directory', 'limits'],
  dns: ['base', 'directory'],
  certificates: ['base', 'directory', 'dns'],
  delivery: ['base', 'directory', 'limits', 'acceptance'],
  reception: ['base', 'directory', 'access', 'limits', 'acceptance', 'delivery'],
  journal: ['base', 'directory'],
  notices: ['base', 'directory', 'limits', 'acceptance'],
  mailbox: ['base', 'access', 'acceptance'],
  backups: ['base'],
  transfers: ['base', 'directory', 'access', 'acceptance', 'dns', 'mailbox', 'backups'],
  overview: ALL_BELOW,
  rehearsal: [...ALL_BELOW, 'overview'],
  trial: ALL_BELOW,
  moves: [...ALL_BELOW, 'overview'],
  app: [...ALL_BELOW, 'overview', 'rehearsal', 'trial', 'moves'],
};
/** The words of closed sets: every face may have these from where they are. */
const VOCABULARY = 'src/core/vocabulary.ts';
/** And what can be set of a thing, and texts: these are pure, so core makes its letters and findings of them, too. */
const FOR_ALL = /^src\/(?:texts|resources)\//;
const roomOf = (file: string): string | null => /^src\/service\/([^/]+)\//.exec(file)?.[1] ?? null;

/** Computation only: what core may use besides itself. */
const PURE = [
  'node:buffer',
  'node:crypto',
  'node:url',
  'ipaddr.js',
  'tldts',
  'htmlparser2',
  '@peculiar/x509',
  'reflect-metadata',
  'semver',
];
const OUTSIDE_CORE = /\bDate\.now\(|new Date\(\)|Math\.random\(|process\.|setTimeout\(|randomBytes|randomInt|console\./;

interface Import {
  file: string;
  part: string;
  target: string;
  typeOnly: boolean;
}

function sources(folder: string): string[] {
  return readdirSync(join(PROJECT, folder), { recursive: true, encoding: 'utf8' })
    .filter((name) => /\.tsx?$/.test(name))
    .map((name) => join(folder, name));
}

const partOf = (file: string): string => {
  const [root = '', part = ''] = file.split('/');
  if (root === 'console') return 'console';
  return /\.tsx?$/.test(part) ? '.' : part;
};

function importsIn(file: string, text: string): Import[] {
  return [...text.matchAll(/(?:import|export)\s+(type\s)?[^'"]*?from\s+'([^']+)'|import\s+'([^']+)'|import\('([^']+)'\)/g)].map((found) => {
    const target = found[2] ?? found[3] ?? found[4] ?? '';
    return {
      file,
      part: partOf(file),
      target: target.startsWith('.') ? normalize(join(dirname(file), target)) : target,
      typeOnly: found[1] !== undefined,
    };
  });
}

function faults(imports: Import[]): string[] {
  return imports.flatMap(({ file, part, target, typeOnly }) => {
    if (target === VOCABULARY || FOR_ALL.test(target))
      return part === 'core' && target !== VOCABULARY && !target.startsWith('src/texts/') ? [`${file}: core imports ${target}`] : [];
    if (part === 'core' && !target.startsWith('src/')) return PURE.includes(target) ? [] : [`${file}: core imports ${target}`];
    if (part === 'console' && target.startsWith('src/'))
      return /^src\/api\/(?:\w+-)?schemas\.ts$/.test(target) && typeOnly ? [] : [`${file}: the console imports ${target}`];
    if (!target.startsWith('src/')) return [];
    const other = partOf(target);
    const [room, next] = [roomOf(file), roomOf(target)];
    if (room !== null && next !== null && room !== next)
      return ROOMS[room]?.includes(next) ? [] : [`${file}: the room ${room} imports from ${next} (${target})`];
    return other === part || ALLOWED[part]?.includes(other) ? [] : [`${file}: ${part} imports ${other} (${target})`];
  });
}

it('imports go one way only, and core touches nothing outside of it', () => {
  const files = [...sources('src'), ...sources('console')];
  expect(files.length).toBeGreaterThan(100);
  const texts = new Map(files.map((file) => [file, readFileSync(join(PROJECT, file), 'utf8')]));
  const imports = [...texts].flatMap(([file, text]) => importsIn(file, text));
  expect(imports.length).toBeGreaterThan(300);
  expect(faults(imports)).toEqual([]);
  const impure = [...texts].filter(([file, text]) => file.startsWith('src/core/') && OUTSIDE_CORE.test(text)).map(([file]) => file);
  expect(impure).toEqual([]);
});

it('each file of service is in a room, and no files import one another in a circle, types included', () => {
  const files = [...sources('src'), ...sources('console')];
  expect(files.filter((file) => file.startsWith('src/service/') && !Object.hasOwn(ROOMS, roomOf(file) ?? ''))).toEqual([]);
  const targets = new Map(files.map((file) => [file, importsIn(file, readFileSync(join(PROJECT, file), 'utf8')).map((one) => one.target)]));
  expect(circles(targets)).toEqual([]);
  expect(
    circles(
      new Map([
        ['a', ['b']],
        ['b', ['c']],
        ['c', ['a', 'd']],
        ['d', []],
      ]),
    ),
  ).toEqual([['a', 'b', 'c', 'a']]);
});

it('no file is so long that nobody reads it whole, and each SMTP verb is a file in the table', () => {
  const long = [...sources('src'), ...sources('console')].filter(
    (file) => readFileSync(join(PROJECT, file), 'utf8').split('\n').length - 1 > 300,
  );
  expect(long).toEqual([]);
  const table = readFileSync(join(PROJECT, 'src/core/smtp/server/verbs.ts'), 'utf8');
  const verbs = sources('src/core/smtp/server/verbs').map((file) => file.slice('src/core/smtp/server/'.length));
  expect(verbs.length).toBeGreaterThan(10);
  expect(verbs.filter((file) => !table.includes(`'./${file}'`))).toEqual([]);
});

it('CONTRIBUTING names files that are there', () => {
  const text = readFileSync(join(PROJECT, 'CONTRIBUTING.md'), 'utf8');
  const named = [
    ...text.matchAll(
      /`((?:api|cli|console|core|service|store|net|docs|tests|compose|operate|programs|threads|access|resources|texts)\/[\w/.-]+)`/g,
    ),
  ].map((found) => found[1] ?? '');
  expect(named.length).toBeGreaterThan(30);
  const lost = named.filter((path) => !existsSync(join(PROJECT, path)) && !existsSync(join(PROJECT, 'src', path)));
  expect(lost).toEqual([]);
});

/** Ways that lead back to where they begin: the first one found from each file that is not on another one. */
function circles(targets: ReadonlyMap<string, readonly string[]>): string[][] {
  const found: string[][] = [];
  const done = new Set<string>();
  const walk = (file: string, way: readonly string[]): void => {
    const at = way.indexOf(file);
    if (at >= 0) found.push([...way.slice(at), file]);
    if (at >= 0 || done.has(file)) return;
    for (const next of targets.get(file) ?? []) if (targets.has(next)) walk(next, [...way, file]);
    done.add(file);
  };
  for (const file of targets.keys()) walk(file, []);
  return found;
}

it('closed sets of words are written out once', () => {
  const lists = [...Object.values(vocabulary).filter(Array.isArray), ...Object.values(vocabulary.ORDERS)] as (readonly string[])[];
  const sets = lists.map((words) => words.map((word) => `'${word}'`));
  const writtenOut = (text: string): boolean => sets.some((words) => [', ', ' | '].some((between) => text.includes(words.join(between))));
  const copies = [...sources('src'), ...sources('console')].filter(
    (file) => file !== VOCABULARY && !file.includes('/migrations/') && writtenOut(readFileSync(join(PROJECT, file), 'utf8')),
  );
  expect(copies).toEqual([]);
  expect(writtenOut("type Sent = 'messages' | 'sends' | 'bytes';")).toBe(true);
});

it('SQL stands in the store only', () => {
  const sql = /\b(SELECT .* FROM|INSERT INTO|DELETE FROM|UPDATE \w+ SET)\b/;
  const elsewhere = sources('src').filter(
    (file) => !/^src\/(store|standins)\//.test(file) && sql.test(readFileSync(join(PROJECT, file), 'utf8')),
  );
  expect(elsewhere).toEqual([]);
});

it('the rule finds a wrong import', () => {
  const wrong = [
    ...importsIn('src/core/spf/x.ts', "import { connect } from 'node:net';"),
    ...importsIn('src/core/spf/x.ts', "import { Database } from '../../store/database.ts';"),
    ...importsIn('src/store/x.ts', "export { y } from '../service/base/y.ts';"),
    ...importsIn('src/service/base/x.ts', "const y = await import('../../net/y.ts');"),
    ...importsIn('console/pages/x.tsx', "import { problem } from '../../src/api/schemas.ts';"),
    ...importsIn('src/cli/x.ts', "import type { Domain } from '../store/domains.ts';"),
    ...importsIn('src/service/limits/x.ts', "import type { Notices } from '../notices/notices.ts';"),
  ];
  expect(faults(wrong)).toHaveLength(7);
});
