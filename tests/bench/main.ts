import { cpus } from 'node:os';
import * as backup from './backup.ts';
import * as imports from './import.ts';
import { decisionTimes } from './limit-decision.ts';
import { listTime } from './lists.ts';
import { lookupRates, serveZones } from './lookups.ts';
import * as mailboxes from './mailboxes.ts';
import { acceptedTime, bareTime, serveBare } from './processor-time.ts';
import { searchTime } from './search.ts';
import { handingOver, type Measured, rawSignatures, wholeWay } from './signing.ts';
import { startTime } from './start.ts';
import { acceptedPerSecond, durableWrites } from './submission.ts';
import { messagesVerified, rawVerifications } from './verification.ts';

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

/**
 * Measures ours between two measures of the plain work, so that a busy moment of the machine hits both sides.
 * Returns the middle of each side, and the middle of the rounds' ratios.
 */
async function inTurns(
  rounds: number,
  ours: () => Promise<number>,
  plain: () => Promise<number>,
  prepare = async (): Promise<void> => {},
): Promise<[number, number, number]> {
  const [measured, against, ratios]: [number[], number[], number[]] = [[], [], []];
  for (let round = 0; round < rounds; round += 1) {
    await prepare();
    const before = await plain();
    const rate = await ours();
    const around = (before + (await plain())) / 2;
    measured.push(rate);
    against.push(around);
    ratios.push(rate / around);
  }
  return [middle(measured), middle(against), middle(ratios)];
}

async function againstSignatures(work: string, open: () => Promise<Measured>, floor: string, goal: string): Promise<Row> {
  const { prepare, measure, stop } = await open();
  const [handed, signatures, ratio] = await inTurns(7, measure, rawSignatures, prepare);
  await stop();
  return {
    work,
    measured: `${rounded(handed)}/s`,
    against: `${rounded(signatures)}/s raw RSA-2048 signatures`,
    ratio,
    floor,
    goal,
  };
}

/** The rows by the word that picks one: `npm run bench -- lookups`. */
const ROWS: Record<string, () => Promise<Row>> = {
  submissions: async () => {
    const [accepted, written, ratio] = await inTurns(3, acceptedPerSecond, durableWrites);
    return {
      work: 'submissions accepted durably, 4 KiB, 50 connections',
      measured: `${rounded(accepted)}/s`,
      against: `${rounded(written)}/s fsynced file create + SQLite commit, one at a time`,
      ratio,
      floor: '0.3',
      goal: '0.8',
    };
  },
  'processor-time': async () => {
    const [ours, bare] = await inTurns(3, acceptedTime, bareTime);
    return {
      work: 'processor time for an accepted message, all threads, 4 KiB, 50 connections',
      measured: `${Math.round(ours * 1000)} µs`,
      against: `${Math.round(bare * 1000)} µs of a bare TLS server that holds the same conversation and writes nothing`,
      ratio: bare / ours,
      floor: '0.25',
      goal: '0.5',
    };
  },
  limits: async () => {
    const times = await decisionTimes(100_000, 100, 25);
    const [many, few] = [middle(times.many), middle(times.few)];
    return {
      work: 'limit decision with 100,000 domains, each drawn from all',
      measured: `${rounded(many)} ns`,
      against: `${rounded(few)} ns with 100 domains`,
      ratio: many / few,
      floor: '≤ 1.3',
      goal: '1.0',
    };
  },
  lists: async () => {
    const few = await listTime(100);
    const many = await listTime(10_000);
    return {
      work: 'p95 of list and overview calls at 10,000 domains, 100,000 mailboxes',
      measured: `${many.toFixed(1)} ms`,
      against: `${few.toFixed(1)} ms at 100 domains`,
      ratio: many / few,
      floor: '≤ 2',
      goal: '1.2',
    };
  },
  start: async () => {
    const few = await startTime(100);
    const many = await startTime(10_000);
    return {
      work: 'start with 10,000 domains, 100,000 mailboxes, until all ports are open',
      measured: `${(many / 1000).toFixed(2)} s`,
      against: `${(few / 1000).toFixed(2)} s with 100 domains`,
      ratio: many / few,
      floor: '≤ 2',
      goal: '1.1',
    };
  },
  search: async () => {
    const few = await searchTime(100_000);
    const many = await searchTime(10_000_000);
    return {
      work: `slowest first page of a search among 10,000,000 events (${many.question})`,
      measured: `${many.ms.toFixed(1)} ms`,
      against: `${few.ms.toFixed(1)} ms among 100,000`,
      ratio: many.ms / few.ms,
      floor: '–',
      goal: '–',
    };
  },
  signing: async () => againstSignatures('messages signed and handed to a sink', handingOver, '0.6', '0.9'),
  'whole-way': async () => againstSignatures('the whole way: submitted over 50 connections, signed, handed to a sink', wholeWay, '–', '–'),
  lookups: async () => {
    const rates = await lookupRates(1000, 5);
    const [checking, bare] = [middle(rates.checking), middle(rates.bare)];
    return {
      work: 'DNS look-ups of a check of every domain, 1,000 domains',
      measured: `${rounded(checking)}/s`,
      against: `${rounded(bare)}/s bare questions over the same socket code`,
      ratio: checking / bare,
      floor: '0.5',
      goal: '0.8',
    };
  },
  verification: async () => {
    const [verified, raw, ratio] = await inTurns(5, messagesVerified, rawVerifications);
    return {
      work: 'messages with one RSA signature verified',
      measured: `${rounded(verified)}/s`,
      against: `${rounded(raw)}/s raw RSA-2048 verifications + SHA-256 of the same octets`,
      ratio,
      floor: '–',
      goal: '–',
    };
  },
  'imap-select': async () => {
    const [many, few, ratio] = await inTurns(3, mailboxes.selectMany, mailboxes.selectFew);
    return {
      work: 'SELECT and `FETCH 1:* (UID FLAGS)` of 100,000 messages, for each',
      measured: `${many.toFixed(2)} µs`,
      against: `${few.toFixed(2)} µs of 1,000`,
      ratio,
      floor: '≤ 1.5',
      goal: '1.0',
    };
  },
  'imap-envelopes': async () => {
    // Processes that have just started compile their own code on the same cores: the first ones do not count.
    for (let round = 0; round < 3; round += 1) await mailboxes.envelopeRate();
    const [ours, bare, ratio] = await inTurns(9, mailboxes.envelopeRate, mailboxes.bareRate);
    return {
      work: '`FETCH 1:* (UID FLAGS ENVELOPE BODYSTRUCTURE)` of 100,000 messages',
      measured: `${rounded(ours / 1e6)} MB/s`,
      against: `${rounded(bare / 1e6)} MB/s of octets from memory over the same TLS`,
      ratio,
      floor: '0.3',
      goal: '0.6',
    };
  },
  'imap-large': async () => {
    const [ours, bare, ratio] = await inTurns(5, mailboxes.largeRate, mailboxes.bareRate);
    return {
      work: 'a message of 20 MB read by IMAP',
      measured: `${rounded(ours / 1e6)} MB/s`,
      against: `${rounded(bare / 1e6)} MB/s of octets from memory over the same TLS`,
      ratio,
      floor: '0.6',
      goal: '0.9',
    };
  },
  'imap-search': async () => {
    const [many, few, ratio] = await inTurns(3, mailboxes.searchMany, mailboxes.searchFew);
    return {
      work: '`SEARCH SUBJECT` over 100,000 messages',
      measured: `${many.toFixed(1)} ms`,
      against: `${few.toFixed(1)} ms over 1,000`,
      ratio,
      floor: '≤ 5',
      goal: '2',
    };
  },
  'imap-search-texts': async () => {
    const [many, few, ratio] = await inTurns(3, mailboxes.searchTextsOfMany, mailboxes.searchTextsOfFew);
    return {
      work: '`SEARCH TEXT` over 100,000 messages',
      measured: `${many.toFixed(1)} ms`,
      against: `${few.toFixed(1)} ms over 1,000`,
      ratio,
      floor: '≤ 5',
      goal: '2',
    };
  },
  'imap-news': async () => {
    const [many, one, ratio] = await inTurns(1, mailboxes.newsToMany, mailboxes.newsToOne);
    return {
      work: 'from 250 to `* EXISTS` at who waits by IDLE, while 1,000 wait',
      measured: `${many.toFixed(1)} ms`,
      against: `${one.toFixed(1)} ms while one waits`,
      ratio,
      floor: '≤ 2',
      goal: '1.1',
    };
  },
  'imap-memory': async () => {
    const ours = await mailboxes.memoryOfSession();
    const bare = await mailboxes.memoryOfBare();
    return {
      work: 'memory of a session that waits, with 5,000 open',
      measured: `${Math.round(ours / 1024)} KiB`,
      against: `${Math.round(bare / 1024)} KiB of a bare TLS server`,
      ratio: ours / bare,
      floor: '≤ 2',
      goal: '1.2',
    };
  },
  'imap-beside': async () => {
    const [beside, alone, ratio] = await inTurns(1, mailboxes.acceptedBesideReaders, mailboxes.acceptedAlone);
    return {
      work: 'submissions accepted beside 200 programs that read and mark, one thing a second each',
      measured: `${rounded(beside)}/s`,
      against: `${rounded(alone)}/s alone`,
      ratio,
      floor: '0.5',
      goal: '0.9',
    };
  },
  backup: async () => {
    const [ours, plain, ratio] = await inTurns(5, backup.backupRate, backup.copyRate);
    return {
      work: 'a backup of 10,000 messages of 4 KiB to another file system',
      measured: `${rounded(ours / 1e6)} MB/s`,
      against: `${rounded(plain / 1e6)} MB/s of cp -r of the data directory`,
      ratio,
      floor: '–',
      goal: '–',
    };
  },
  'backup-beside': async () => {
    const [beside, alone, ratio] = await inTurns(3, backup.acceptedBesideBackups, backup.acceptedBesideNothing);
    return {
      work: 'submissions accepted beside one backup after another',
      measured: `${rounded(beside)}/s`,
      against: `${rounded(alone)}/s alone`,
      ratio,
      floor: '–',
      goal: '–',
    };
  },
  import: async () => {
    const [ours, plain, ratio] = await inTurns(5, imports.importedPerSecond, imports.appendedPerSecond);
    return {
      work: 'an import of 5,000 messages of 4 KiB from an mbox',
      measured: `${rounded(ours)}/s`,
      against: `${rounded(plain)}/s put into a folder by the store alone`,
      ratio,
      floor: '–',
      goal: '–',
    };
  },
};

const [asked] = process.argv.slice(2);
// Processes of their own, so that only one side is measured.
if (asked === 'bare-server') await serveBare();
if (asked === 'octet-server') await mailboxes.serveOctets();
if (asked === 'name-server') await serveZones(Number(process.argv[3]));
if (asked !== undefined && asked !== 'imap' && !(asked in ROWS)) {
  console.error(`There is no row “${asked}”; there are ${Object.keys(ROWS).join(', ')}.`);
  process.exit(2);
}

const rows: Row[] = [];
for (const [name, measure] of Object.entries(ROWS)) {
  if (asked !== undefined && asked !== name && !(asked === 'imap' && name.startsWith('imap'))) continue;
  process.stderr.write(`${name} …\n`);
  rows.push(await measure());
}
await mailboxes.closeMailboxes();
await backup.closeBackups();
await imports.closeImports();
const [cpu] = cpus();
console.log(`Node ${process.versions.node}, ${cpus().length} cores (${cpu?.model ?? 'unknown'})\n`);
console.log('| work | measured | against | ratio | floor | goal |\n|---|---|---|---|---|---|');
for (const row of rows)
  console.log(`| ${row.work} | ${row.measured} | ${row.against} | ${row.ratio.toFixed(2)} | ${row.floor} | ${row.goal} |`);
process.exit(0);
