import { cpus } from 'node:os';
import { decisionTimes } from './limit-decision.ts';
import { rawSignatures, signedAndHandedOver } from './signing.ts';
import { acceptedPerSecond, durableWrites } from './submission.ts';

interface Row {
  work: string;
  measured: string;
  against: string;
  ratio: number;
  floor: string;
  goal: string;
}

const rounded = (value: number): string => (value >= 100 ? Math.round(value).toLocaleString('en') : value.toFixed(1));
const middle = (values: number[]): number => values.sort((one, other) => one - other)[Math.floor(values.length / 2)] ?? 0;

/** Measures both sides of a ratio in turns, so that a busy moment of the machine hits both, and takes the middle of each. */
async function inTurns(rounds: number, one: () => Promise<number>, other: () => Promise<number>): Promise<[number, number]> {
  const results: [number[], number[]] = [[], []];
  for (let round = 0; round < rounds; round += 1) {
    results[0].push(await one());
    results[1].push(await other());
  }
  return [middle(results[0]), middle(results[1])];
}

const rows: Row[] = [];
process.stderr.write('Submissions accepted durably …\n');
const [accepted, written] = await inTurns(3, acceptedPerSecond, durableWrites);
rows.push({
  work: 'submissions accepted durably, 4 KiB, 50 connections',
  measured: `${rounded(accepted)}/s`,
  against: `${rounded(written)}/s fsynced file create + SQLite commit, one at a time`,
  ratio: accepted / written,
  floor: '0.3',
  goal: '0.8',
});

process.stderr.write('Limit decisions …\n');
const times = await decisionTimes(100_000, 100, 7);
const [many, few] = [middle(times.many), middle(times.few)];
rows.push({
  work: 'limit decision with 100,000 domains',
  measured: `${rounded(many)} ns`,
  against: `${rounded(few)} ns with 100 domains`,
  ratio: many / few,
  floor: '≤ 1.3',
  goal: '1.0',
});

process.stderr.write('Messages signed and handed to a sink …\n');
const [handed, signatures] = await inTurns(3, signedAndHandedOver, rawSignatures);
rows.push({
  work: 'messages signed and handed to a sink',
  measured: `${rounded(handed)}/s`,
  against: `${rounded(signatures)}/s raw RSA-2048 signatures`,
  ratio: handed / signatures,
  floor: '0.5',
  goal: '0.9',
});

const [cpu] = cpus();
console.log(`Node ${process.versions.node}, ${cpus().length} cores (${cpu?.model ?? 'unknown'})\n`);
console.log('| work | measured | against | ratio | floor | goal |\n|---|---|---|---|---|---|');
for (const row of rows)
  console.log(`| ${row.work} | ${row.measured} | ${row.against} | ${row.ratio.toFixed(2)} | ${row.floor} | ${row.goal} |`);
process.exit(0);
