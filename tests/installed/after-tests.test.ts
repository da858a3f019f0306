import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { existsSync, mkdtempSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { expect, it } from 'vitest';
import { PROJECT } from '../../src/project.ts';

const FOR_EVER = 'setInterval(() => {}, 1000)';
const alive = (pid: number | undefined): boolean => {
  try {
    process.kill(pid ?? 0, 0);
    return true;
  } catch {
    return false;
  }
};

it('a run of the tests that is broken off leaves no process and no folder', async () => {
  const folder = mkdtempSync(join(tmpdir(), 'tenedor-after-'));
  writeFileSync(join(folder, 'left.txt'), 'x');
  const mark = `mark ${process.pid}`;
  const env = { ...process.env, TENEDOR_TEST_RUN: mark };
  const run = spawn(process.execPath, ['-e', FOR_EVER], { env, stdio: 'ignore' });
  // One that carries the mark, and one that has only the folder, as a service that was started with an environment of its own.
  const children = [
    spawn(process.execPath, ['-e', FOR_EVER], { env, stdio: 'ignore', detached: true }),
    spawn(process.execPath, ['-e', FOR_EVER, folder], { env: {}, stdio: 'ignore', detached: true }),
  ];
  const bystander = spawn(process.execPath, ['-e', FOR_EVER], { env: { ...process.env, TENEDOR_TEST_RUN: 'another' }, stdio: 'ignore' });
  const after = spawn(process.execPath, [join(PROJECT, 'scripts/after-tests.mjs'), String(run.pid), mark, folder], { stdio: 'ignore' });
  const ends = [once(after, 'exit'), ...children.map((one) => once(one, 'exit'))];
  expect([...children, bystander].every((one) => alive(one.pid))).toBe(true);
  run.kill('SIGKILL');
  await Promise.all(ends);
  expect(existsSync(folder)).toBe(false);
  expect(alive(bystander.pid)).toBe(true);
  bystander.kill('SIGKILL');
});
