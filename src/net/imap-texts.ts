import type { ImapFlow } from 'imapflow';
import { flagsOf } from '../core/mailbox/flags.ts';
import type { Carrier } from '../core/transfer/carrier.ts';
import { refusalOf } from './imap-transport.ts';

/** Messages that are fetched together. */
const MOST_FETCHED = 50;
const MOST_OCTETS = 8 * 1024 * 1024;
/** Answers to something else, in one question: others may work in the same account. */
const MOST_UNASKED = 100_000;

/** What is known of a message on the other server before its text comes. */
export interface Known {
  uid: number;
  key: string;
  size: number;
  flags: Set<string>;
  internalDate: number | null;
}

/** Counts answers that nobody asked for, and has enough of them some time. */
export function patience(): () => void {
  let told = 0;
  return () => {
    told += 1;
    if (told > MOST_UNASKED) throw new Error('it tells what was not asked');
  };
}

interface TextWorld {
  mostOctets: number;
  pace: (octets: number) => Promise<void>;
}

/** Fetches texts, so many at a time as there is room for. `pace` waits as long as so many octets take. */
export async function fetchTexts(client: ImapFlow, wanted: Known[], world: TextWorld, carrier: Carrier): Promise<void> {
  for (let at = 0; at < wanted.length; ) {
    const some: Known[] = [];
    let octets = 0;
    for (
      let one = wanted[at];
      one && some.length < MOST_FETCHED && (some.length === 0 || octets + one.size <= MOST_OCTETS);
      one = wanted[at]
    ) {
      at += 1;
      if (one.size > world.mostOctets) carrier.leaveOut(`message ${one.uid}`, tooLarge(one.size, world.mostOctets));
      else {
        some.push(one);
        octets += one.size;
      }
    }
    if (some.length === 0) continue;
    await world.pace(octets);
    await fetchSome(client, some, world, carrier);
  }
}

/** Of what the server refuses together, each is asked for alone. */
async function fetchSome(client: ImapFlow, some: readonly Known[], world: TextWorld, carrier: Carrier): Promise<void> {
  const missing = new Map(some.map((one) => [one.uid, one]));
  const unasked = patience();
  const wantedUids = some.map(({ uid }) => uid).join(',');
  try {
    for await (const { uid, source } of client.fetch(wantedUids, { uid: true, source: true }, { uid: true })) {
      const one = missing.get(uid);
      if (!one || !source || source.length === 0) {
        unasked();
        continue;
      }
      missing.delete(uid);
      // It may be another size than was told.
      if (source.length > world.mostOctets) carrier.leaveOut(`message ${uid}`, tooLarge(source.length, world.mostOctets));
      else await carrier.add({ text: source, ...marks(one.flags), internalDate: one.internalDate, key: one.key });
    }
  } catch (error) {
    const why = refusalOf(error);
    if (why === null) throw error;
    const left = [...missing.values()];
    if (some.length === 1) for (const { uid } of left) carrier.leaveOut(`message ${uid}`, why);
    else for (const one of left) await fetchSome(client, [one], world, carrier);
    return;
  }
  for (const uid of missing.keys())
    carrier.leaveOut(`message ${uid}`, 'The server does not give it: it was removed meanwhile, or can’t be read there.');
}

const tooLarge = (size: number, most: number): string =>
  `It has ${size} octets, which is larger than the ${most} octets that a message may have here.`;

/** What can be kept of the flags there. */
export const marks = (names: Set<string>): { flags: number; keywords: string } =>
  flagsOf([...names].filter((name) => !name.startsWith('\\') || /^\\(Seen|Answered|Flagged|Deleted|Draft)$/i.test(name))) ?? {
    flags: 0,
    keywords: '',
  };
