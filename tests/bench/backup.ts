import { execFileSync } from 'node:child_process';
import { mkdtempSync, readdirSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import type { BackupState } from '../../src/api/backup-schemas.ts';
import { StandInDns } from '../../src/standins/dns-server.ts';
import { type Bench, DATA, startBench, submitAll } from './service.ts';

/** In memory, so that no disk is measured; to there texts are copied, never linked. */
const PLACE = '/dev/shm';
const MESSAGES = 10_000;

let opened: Promise<{ bench: Bench; dns: StandInDns }> | null = null;
async function house(): Promise<Bench> {
  opened ??= open();
  return (await opened).bench;
}
async function open(): Promise<{ bench: Bench; dns: StandInDns }> {
  const dns = new StandInDns();
  const bench = await startBench(await dns.listen(), '[backup]\nevery_hours = 0\nmib_per_second = 0\n');
  await submitAll(bench.talks, MESSAGES, 'li@shop.example');
  // Texts are committed with their rows first, and written to files after that.
  for (let before = -1, now = 0; before !== now; ) {
    before = now;
    await pause(1000);
    now = readdirSync(join(DATA, 'messages'), { recursive: true }).length;
  }
  return { bench, dns };
}
export async function closeBackups(): Promise<void> {
  if (!opened) return;
  const { bench, dns } = await opened;
  await bench.stop();
  dns.close();
}

const pause = (ms: number): Promise<void> => new Promise((done) => setTimeout(done, ms));
const octetsOf = (folder: string): number => Number(execFileSync('du', ['-sb', folder], { encoding: 'utf8' }).split('\t')[0]);

/** Octets a second that a new place has after some work. */
async function rateInto(work: (place: string) => Promise<void> | void): Promise<number> {
  const place = mkdtempSync(join(PLACE, 'tenedor-bench-'));
  try {
    const begun = performance.now();
    await work(place);
    const seconds = (performance.now() - begun) / 1000;
    return octetsOf(place) / seconds;
  } finally {
    rmSync(place, { recursive: true });
  }
}

async function backUp(bench: Bench, target: string): Promise<void> {
  await bench.call('POST', '/backups', { target });
  for (;;) {
    const { underWay, last } = await bench.call<BackupState>('GET', '/backups/state');
    if (underWay === null && last?.isGood !== true) throw new Error(last?.outcome);
    if (underWay === null) return;
    await pause(10);
  }
}

export const backupRate = async (): Promise<number> => {
  const bench = await house();
  return rateInto((place) => backUp(bench, place));
};
export const copyRate = async (): Promise<number> => {
  await house();
  return rateInto((place) => void execFileSync('cp', ['-r', DATA, join(place, 'copy')]));
};

/** Submissions a second, each answered with 250 after its commit. */
export async function acceptedBesideNothing(): Promise<number> {
  const { talks } = await house();
  const begun = performance.now();
  await submitAll(talks, MESSAGES / 2, 'li@shop.example');
  return MESSAGES / 2 / ((performance.now() - begun) / 1000);
}

/** The same while one backup follows another, each of all that is there. */
export async function acceptedBesideBackups(): Promise<number> {
  const bench = await house();
  let isOver = false;
  const backups = (async () => {
    while (!isOver) await rateInto((place) => backUp(bench, place));
  })();
  const accepted = await acceptedBesideNothing();
  isOver = true;
  await backups;
  return accepted;
}
