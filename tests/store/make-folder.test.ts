import { mkdirSync, mkdtempSync, rmSync, statSync, symlinkSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, beforeEach, expect, it } from 'vitest';
import { leadsInto, makeFolder } from '../../src/store/make-folder.ts';

let folder: string;
beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), 'tenedor-folders-'));
});
afterEach(() => rmSync(folder, { recursive: true }));

it('makes what is missing, each with its mode, and ends where the system refuses', () => {
  makeFolder(join(folder, 'a/b/c'), 0o700, 0o755);
  expect(['a', 'a/b', 'a/b/c'].map((one) => (statSync(join(folder, one)).mode & 0o777).toString(8))).toEqual(['755', '755', '700']);
  makeFolder(join(folder, 'a/b/c'), 0o700);
  for (const path of ['/proc/x', '/proc/x/y/z', '/dev/null/x'])
    expect(() => makeFolder(path, 0o700)).toThrow(/ENOENT|EACCES|EPERM|ENOTDIR/);
  writeFileSync(join(folder, 'file'), '');
  expect(() => makeFolder(join(folder, 'file/x'), 0o700)).toThrow(/ENOTDIR/);
  symlinkSync(join(folder, 'nowhere'), join(folder, 'dangling'));
  expect(() => makeFolder(join(folder, 'dangling/x'), 0o700)).toThrow();
});

it('what leads into a folder is known through all links, also when its end is not there yet', () => {
  for (const one of ['data/messages', 'other']) mkdirSync(join(folder, one), { recursive: true });
  symlinkSync(join(folder, 'data'), join(folder, 'link'));
  symlinkSync('../data/messages', join(folder, 'other/inner'));
  const into = (path: string): boolean => leadsInto(join(folder, path), join(folder, 'data'));
  expect(['data', 'data/x/y', 'link', 'link/new', 'other/inner/new', 'other/../data/x'].map(into)).toEqual(Array(6).fill(true));
  expect(['other', 'other/new', 'data-2', '.'].map(into)).toEqual(Array(4).fill(false));
});
