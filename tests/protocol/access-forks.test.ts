import cluster, { type Worker } from 'node:cluster';
import { once } from 'node:events';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { AccessForks } from '../../src/compose/access-forks.ts';
import { AccessProcesses } from '../../src/compose/access-processes.ts';
import { type Bare, openBare } from '../support/context.ts';

const folder = mkdtempSync(join(tmpdir(), 'tenedor-forks-'));
let bare: Bare;
beforeAll(async () => {
  bare = await openBare();
});
afterAll(async () => {
  await bare.close();
  rmSync(folder, { recursive: true });
});

const program = (text: string): string => {
  const file = join(folder, 'program.mjs');
  writeFileSync(file, text);
  return file;
};
const processesOf = (forks: AccessForks): AccessProcesses =>
  new AccessProcesses({
    forks,
    begin: { data: folder, followed: '', hostName: 'mail.host.example', version: '0', maxMessageBytes: 1000 },
    certificates: () => ({ put: [], drop: [] }),
    desk: bare.context.desk,
    log: bare.context.log,
    onCount: () => {},
  });
const PORT = { service: 'imap', address: '127.0.0.1', port: 0, proxy: false, mostPerAddress: 1, mostOpen: 1 } as const;

it('a process that ends before it has begun is no start, whenever that is noticed', async () => {
  const late = processesOf(new AccessForks(program('setTimeout(() => process.exit(3), 50);'), 1));
  await expect(late.listen({ ...PORT })).rejects.toThrow('An access process ended before it could listen.');
  late.stopAccepting();
  const forks = new AccessForks(program('process.exit(3);'), 1);
  const early = forks.take();
  await expect(early.isUp).rejects.toThrow('ended before it was up');
  if (!early.worker.isDead()) await once(early.worker, 'exit');
  const noticed = processesOf(Object.assign(Object.create(forks), { take: () => early }) as AccessForks);
  await expect(noticed.listen({ ...PORT })).rejects.toThrow('An access process ended before it could listen.');
  noticed.stopAccepting();
  await noticed.quiet();
  noticed.destroyAll();
});

it('processes that were started for a service that does not come up are ended', async () => {
  const before = Object.values(cluster.workers ?? {});
  const forks = new AccessForks(program("process.send('up'); setInterval(() => {}, 1000);"), 2);
  const taken = forks.take().worker;
  const left = Object.values(cluster.workers ?? {}).find((one) => one !== taken && !before.includes(one));
  const ended = once(left as Worker, 'exit');
  forks.destroy();
  expect(await ended).toEqual([null, 'SIGKILL']);
  expect(taken.isDead()).toBe(false);
  taken.process.kill('SIGKILL');
});
