import { readdirSync, readFileSync } from 'node:fs';
import { dirname, join, normalize } from 'node:path';
import { fileURLToPath } from 'node:url';
import { expect, it } from 'vitest';

const PROJECT = fileURLToPath(new URL('..', import.meta.url));

/** Which parts each part of src may import (docs/architecture.md). */
const ALLOWED: Record<string, string[]> = {
  core: [],
  store: ['core'],
  dns: ['core'],
  service: ['core', 'store', 'dns'],
  net: ['core', 'service'],
  api: ['core', 'store', 'service'],
  cli: ['api'],
  standins: ['core', 'store', 'dns', 'net', 'service', 'cli', '.'],
  console: ['api'],
  '.': ['core', 'store', 'dns', 'net', 'service', 'api', 'cli', 'standins'],
};
/** Computation only: what core may use besides itself. */
const PURE = ['node:buffer', 'node:crypto', 'node:url', 'ipaddr.js', 'tldts'];
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
    if (part === 'core' && !target.startsWith('src/')) return PURE.includes(target) ? [] : [`${file}: core imports ${target}`];
    if (part === 'console' && target.startsWith('src/'))
      return /^src\/api\/(base-|dns-|mail-)?schemas\.ts$/.test(target) && typeOnly ? [] : [`${file}: the console imports ${target}`];
    if (!target.startsWith('src/')) return [];
    const other = partOf(target);
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
    ...importsIn('src/store/x.ts', "export { y } from '../service/y.ts';"),
    ...importsIn('src/service/x.ts', "const y = await import('../net/y.ts');"),
    ...importsIn('console/pages/x.tsx', "import { problem } from '../../src/api/schemas.ts';"),
    ...importsIn('src/cli/x.ts', "import type { Domain } from '../store/domains.ts';"),
  ];
  expect(faults(wrong)).toHaveLength(6);
});
