import { createHash } from 'node:crypto';
import { ImapFlow } from 'imapflow';
import { Gate } from '../core/gate.ts';
import { Carrier, MailboxRefused } from '../core/transfer/carrier.ts';
import type { ImapAccount, ImapOrder } from '../core/transfer/order.ts';
import type { CarryState, Sink } from '../core/transfer/sink.ts';
import { foldersOf } from './imap-folders.ts';
import { fetchTexts, type Known, marks, patience } from './imap-texts.ts';
import { refusalOf, transportTo, whyNot } from './imap-transport.ts';

/** Messages that are asked about together. */
const ASKED_TOGETHER = 200;
/** After what passes by itself, it is tried again: so often without getting on, after so long, twice as long each time. */
const MOST_TRIES = 8;
const FIRST_WAIT_MS = 5000;
const LONGEST_WAIT_MS = 5 * 60_000;
const PATIENCE_MS = 60_000;
const HOUR_MS = 3_600_000;
const AGAIN_MS = HOUR_MS / 4;
/** So much is looked at for a Message-ID. */
const LONGEST_ID = 4096;

/** What the import from another server needs of the world. */
export interface ImapWorld {
  /** Where the server is found. */
  at: { address: string; port: number };
  /** Roots that are trusted beside the usual ones, as PEM. */
  roots: string | null;
  mostOctets: number;
  wait: (ms: number) => Promise<void>;
  /** Steady, in ms. */
  now: () => number;
}

const BEGIN: CarryState = { done: 0, known: 0, total: 0, folder: '' };

/** An account that is brought in, over all passes. */
interface Course {
  account: ImapAccount;
  /** Null before it is open. */
  part: number | null;
  taken: number;
  /** How far the last pass came. */
  state: CarryState;
  /** Nothing more is taken: it is refused, or has a fault. */
  isOver: boolean;
}

/**
 * Brings in the mail of some accounts of another server, a few at a time, each message once. What an account has wrong is said of it, and the others go on.
 * Where it is to go on until nothing comes there any more, it looks again a quarter of an hour later.
 */
export async function readImap(order: ImapOrder, world: ImapWorld, sink: Sink): Promise<void> {
  const pace = paceOf(order.perSecond, world);
  const courses = order.accounts.map((account): Course => ({ account, part: null, taken: 0, state: BEGIN, isOver: false }));
  for (let newsAt = world.now(), before = -1; ; ) {
    const gate = new Gate(order.atOnce);
    const open = courses.filter((one) => !one.isOver);
    await Promise.all(open.map((one) => gate.run(() => readAccount(order, one, { ...world, pace }, sink))));
    const taken = courses.reduce((sum, one) => sum + one.taken, 0);
    if (taken !== before) newsAt = world.now();
    before = taken;
    const going = courses.filter((one) => !one.isOver);
    if (going.length === 0 || world.now() - newsAt >= order.untilQuietHours * HOUR_MS) break;
    for (const { part, state } of going) if (part !== null) sink.progress(part, { ...state, folder: 'looks again soon' });
    await world.wait(AGAIN_MS);
  }
  for (const { part, isOver } of courses) if (part !== null && !isOver) sink.close(part, null);
}

type World = ImapWorld & { pace: (octets: number) => Promise<void> };

/** Waits as long as so many octets take. */
function paceOf(perSecond: number, { wait, now }: ImapWorld): (octets: number) => Promise<void> {
  let freeAt = 0;
  return async (octets) => {
    if (perSecond === 0) return;
    freeAt = Math.max(freeAt, now()) + (1000 * octets) / perSecond;
    const ahead = freeAt - now();
    if (ahead > 0) await wait(ahead);
  };
}

async function readAccount(order: ImapOrder, course: Course, world: World, sink: Sink): Promise<void> {
  const { account } = course;
  if (course.part === null) {
    const opened = await sink.open(account.into, null);
    if ('refused' in opened) {
      course.isOver = true;
      return;
    }
    course.part = opened.part;
  }
  const { part } = course;
  const end = (fault: string): void => {
    course.isOver = true;
    sink.close(part, fault);
  };
  for (let tries = 0; ; ) {
    const carrier = new Carrier(sink, part, 0, course.taken);
    try {
      await readOnce(order, account, world, sink, carrier);
      course.taken += carrier.taken;
      course.state = carrier.state;
      return;
    } catch (error) {
      course.taken += carrier.taken;
      if (error instanceof MailboxRefused) return end(error.message);
      const { words, isPassing, waitMs } = whyNot(error);
      tries = carrier.taken > 0 ? 1 : tries + 1;
      if (!isPassing || tries >= MOST_TRIES) return end(words);
      sink.progress(part, { ...carrier.state, folder: `waiting: ${words}` });
      await world.wait(Math.min(LONGEST_WAIT_MS, Math.max(waitMs, FIRST_WAIT_MS * 2 ** (tries - 1))));
    }
  }
}

/** One connection, from sign-in to the last folder, or to what breaks it off. */
async function readOnce(order: ImapOrder, account: ImapAccount, world: World, sink: Sink, carrier: Carrier): Promise<void> {
  const client = new ImapFlow({
    host: order.host,
    port: order.port,
    secure: order.security === 'tls',
    doSTARTTLS: order.security === 'starttls',
    auth: signIn(order, account),
    logger: false,
    disableAutoIdle: true,
    connectionTimeout: PATIENCE_MS,
    greetingTimeout: PATIENCE_MS,
    socketTimeout: 5 * PATIENCE_MS,
    maxLiteralSize: world.mostOctets + 1024 * 1024,
    maxResponseSize: world.mostOctets + 4 * 1024 * 1024,
    transport: transportTo(order, world),
  });
  const failed = new Promise<never>((_resolve, reject) => client.on('error', reject));
  failed.catch(() => {});
  try {
    await Promise.race([client.connect(), failed]);
    const folders = await Promise.race([foldersOf(client), failed]);
    carrier.total = folders.reduce((sum, one) => sum + (one.messages ?? 0), 0);
    if (order.isTrial) {
      carrier.tell();
      return;
    }
    for (const one of folders) {
      await carrier.enter({ name: one.name, specialUse: one.specialUse });
      try {
        await Promise.race([readFolder(client, one.path, one.name, world, sink, carrier), failed]);
      } catch (error) {
        const why = refusalOf(error);
        if (why === null) throw error;
        carrier.leaveOut('the folder, or some of it', why);
      }
    }
    await carrier.flush();
  } catch (error) {
    // What has come is not fetched again.
    await carrier.flush();
    throw error;
  } finally {
    await Promise.race([client.logout().catch(() => {}), failed.catch(() => {})]).catch(() => {});
    client.close();
  }
}

function signIn(
  { master }: ImapOrder,
  { user, password }: ImapAccount,
): { user: string; pass: string; authzid?: string; loginMethod?: string } {
  // RFC 4616: who signs in, and as whom.
  if (password === null && master) return { user: master.user, pass: master.password, authzid: user, loginMethod: 'AUTH=PLAIN' };
  return { user, pass: password ?? '' };
}

async function readFolder(client: ImapFlow, path: string, name: string, world: World, sink: Sink, carrier: Carrier): Promise<void> {
  // EXAMINE: nothing becomes read there by our reading (RFC 3501 §6.3.2).
  await client.mailboxOpen(path, { readOnly: true });
  const found = await client.search({ all: true }, { uid: true });
  const uids = found || [];
  const times = new Map<string, number>();
  for (let at = 0; at < uids.length; at += ASKED_TOGETHER) {
    const asked = uids.slice(at, at + ASKED_TOGETHER);
    const some: Known[] = [];
    const waited = new Set(asked);
    const unasked = patience();
    for await (const one of client.fetch(
      asked.join(','),
      { uid: true, flags: true, internalDate: true, size: true, headers: ['message-id'] },
      { uid: true },
    )) {
      // What was not asked for, or was told already, is not listened to for ever.
      if (!waited.delete(one.uid)) {
        unasked();
        continue;
      }
      const internalDate = one.internalDate === undefined ? null : new Date(one.internalDate).getTime();
      const id = /^message-id:\s*(\S.*?)\s*$/im.exec(one.headers?.toString('latin1', 0, LONGEST_ID) ?? '')?.[1] ?? '';
      const key = digest([name, id, String(internalDate), String(one.size ?? 0)].join('\0'));
      const time = (times.get(key) ?? 0) + 1;
      times.set(key, time);
      some.push({
        uid: one.uid,
        key: time === 1 ? key : digest(`${key} ${time}`),
        size: one.size ?? 0,
        flags: one.flags ?? new Set(),
        internalDate,
      });
    }
    const known = await sink.known(
      carrier.part,
      some.map((one) => one.key),
    );
    carrier.skip(known.filter(Boolean).length);
    const marked = some.flatMap(({ key, flags }, place) => (known[place] ? [{ key, ...marks(flags) }] : []));
    if (marked.length > 0) await sink.follow(carrier.part, marked);
    await fetchTexts(
      client,
      some.filter((_one, place) => !known[place]),
      world,
      carrier,
    );
  }
}

const digest = (text: string): string => createHash('sha256').update(text).digest('base64url').slice(0, 32);
