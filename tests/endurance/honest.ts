import { Talk } from '../support/talk.ts';
import { digestOf, pause } from './machine.ts';

export const PASSWORD = 'a calm harbour';
const PATIENCE_MS = 30_000;
/** Addresses of the loopback network that honest people come from. */
const HOME = '127.0.0.7';

export interface Ports {
  smtp: number;
  submissions: number;
  pop3s: number;
  imaps: number;
  web: number;
}

/** What the honest clients did and what they were told: the other half of the books. */
export class Diary {
  /** Each message that was begun, by its name. */
  readonly sent = new Map<string, { to: string[]; digest: string }>();
  readonly acknowledged = new Set<string>();
  /** Replies other than 250, by their codes. */
  readonly refusals = new Map<string, number>();
  /** How often each message was fetched whole. */
  readonly fetched = new Map<string, number>();
  /** Deleted, and told so. */
  readonly deleted = new Set<string>();
  /** What should never be seen. */
  readonly wrong: string[] = [];
  /** The waits for an answer, in ms, by door. */
  readonly waits = new Map<string, number[]>();
  /** The longest wait for a turn of the event loop in each half second, in ms, as the service has measured it. */
  readonly turns: number[] = [];

  note(refusal: string): void {
    const key = /^\d{3} [\d.]*/.exec(refusal)?.[0] || refusal || 'cut off';
    this.refusals.set(key, (this.refusals.get(key) ?? 0) + 1);
  }

  waited(door: string, ms: number): void {
    const waits = this.waits.get(door);
    if (waits) waits.push(ms);
    else this.waits.set(door, [ms]);
  }
}

/** Whether the service is up, and has been since a moment. */
export interface Watched {
  isUp: boolean;
  /** When what serves mailboxes was killed last, by the steady clock. */
  accessKilledAt: number;
  /** When it last came up, by the same clock. */
  upSince: number;
}

/** Waits for an answer with the patience of a mail program; nothing at all is a closed door. */
async function patiently<T>(answer: Promise<T>): Promise<T> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<never>((_resolve, reject) => {
    timer = setTimeout(() => reject(new Error(`no answer in ${PATIENCE_MS / 1000} s`)), PATIENCE_MS);
  });
  try {
    return await Promise.race([answer, late]);
  } finally {
    clearTimeout(timer);
  }
}

async function signedIn(port: number, user: string): Promise<Talk> {
  const talk = await patiently(Talk.to(port, { tls: true, from: HOME }));
  await patiently(talk.say(null));
  await patiently(talk.say('EHLO client.example'));
  const reply = await patiently(talk.say(`AUTH PLAIN ${Buffer.from(`\0${user}\0${PASSWORD}`).toString('base64')}`));
  if (reply.startsWith('235')) return talk;
  talk.end();
  throw new Error(reply || 'cut off');
}

/** So long after a start everybody who was waiting comes at once. */
const JUST_UP_MS = 3000;
/** So long what serves IMAP and POP3 may take to be there again after it was killed: the service itself is up. */
const ACCESS_BACK_MS = 3000;

/** Goes on with `round` until it is told to stop, whatever happens to the service; what fails while the service is up all the time counts. */
async function goOn(what: string, watched: Watched, diary: Diary, until: AbortSignal, round: () => Promise<void>): Promise<void> {
  while (!until.aborted) {
    const { isUp, upSince } = watched;
    try {
      await round();
    } catch (error) {
      const said = error instanceof Error ? error.message : String(error);
      if (isUp && watched.isUp && watched.upSince === upSince) {
        // A reply that asks for patience is an answer; silence and a wrong “no” are not.
        if (/^(4\d\d|-ERR \[SYS\/TEMP\])/.test(said)) diary.note(said);
        else if (/995|fetching/.test(what) && performance.now() - watched.accessKilledAt < ACCESS_BACK_MS)
          diary.note('no mailbox while what serves them began again');
        else diary.wrong.push(`${what}: ${said}`);
      }
      await pause(300);
    }
  }
}

/** A mailbox that sends one message after another, each to some of the recipients. */
export function sender(
  user: string,
  port: number,
  watched: Watched,
  diary: Diary,
  until: AbortSignal,
  recipients: (name: string, round: number) => string[],
): Promise<void> {
  let round = 0;
  let talk: Talk | null = null;
  const local = user.replace(/@.*/, '');
  return goOn(`submitting as ${user}`, watched, diary, until, async () => {
    talk ??= await signedIn(port, user);
    try {
      round += 1;
      const name = `${local}-${round}`;
      // Most are small; one in sixty is larger than what a packet, a buffer or a commit holds.
      const body = `${`${name} ${'x'.repeat(60)}\r\n`.repeat(round % 60 === 0 ? 12_000 : 1 + (round % 50))}`;
      const to: string[] = [];
      const from = await patiently(talk.say(`MAIL FROM:<${user}>`));
      if (!from.startsWith('250')) throw new Error(from || 'cut off');
      for (const one of recipients(name, round)) {
        const reply = await patiently(talk.say(`RCPT TO:<${one}>`));
        if (reply.startsWith('250')) to.push(one);
        else diary.note(reply);
        if (reply === '') throw new Error('cut off');
      }
      if (to.length === 0) {
        await patiently(talk.say('RSET'));
        await pause(100);
        return;
      }
      const go = await patiently(talk.say('DATA'));
      if (!go.startsWith('354')) throw new Error(go || 'cut off');
      diary.sent.set(name, { to, digest: digestOf(body) });
      const begun = performance.now();
      const taken = await patiently(talk.say(`From: ${user}\r\nSubject: ${name}\r\n\r\n${body}.`));
      diary.waited('accepting', performance.now() - begun);
      if (taken.startsWith('250')) diary.acknowledged.add(name);
      else throw new Error(taken || 'cut off');
      await pause(80);
    } catch (error) {
      talk?.end();
      talk = null;
      throw error;
    }
  });
}

/** Fetches and deletes what lies in a mailbox, a hundred at a time; with `all`, until nothing is left. */
export async function fetchMail(user: string, port: number, diary: Diary, most: number): Promise<number> {
  const talk = await patiently(Talk.to(port, { tls: true, from: HOME }));
  try {
    const must = async (line: string | null, long = false): Promise<string> => {
      const reply = await patiently(talk.pop(line, long));
      if (!reply.startsWith('+OK')) throw new Error(reply.trimEnd() || 'cut off');
      return reply;
    };
    await must(null);
    await must(`USER ${user}`);
    await must(`PASS ${PASSWORD}`);
    const count = Math.min(most, Number(/^\+OK (\d+)/.exec(await must('STAT'))?.[1] ?? 0));
    const names: string[] = [];
    for (let number = 1; number <= count; number += 1) {
      const text = await must(`RETR ${number}`, true);
      const name = /^Subject: (\S+)\r$/m.exec(text)?.[1] ?? '';
      const body = text.slice(text.indexOf('\r\n\r\n') + 4, -3);
      const sent = diary.sent.get(name);
      // Reports about what could not be delivered come here as well.
      if (sent && digestOf(body) !== sent.digest) diary.wrong.push(`${name} came back other than it was sent (${body.length} octets)`);
      if (sent) {
        if (diary.deleted.has(name)) diary.wrong.push(`${name} was there again after it had been deleted`);
        diary.fetched.set(name, (diary.fetched.get(name) ?? 0) + 1);
        names.push(name);
      }
      await must(`DELE ${number}`);
    }
    await must('QUIT');
    for (const one of names) diary.deleted.add(one);
    return count;
  } finally {
    talk.end();
  }
}

export const reader = (user: string, port: number, watched: Watched, diary: Diary, until: AbortSignal): Promise<void> =>
  goOn(`fetching as ${user}`, watched, diary, until, async () => {
    await fetchMail(user, port, diary, 100);
    await pause(1500);
  });

/** Knocks at every door twice a second: each must greet while the service is up. */
export function knocker(ports: Ports, watched: Watched, diary: Diary, until: AbortSignal): Promise<void>[] {
  const greeting =
    (port: number, tls: boolean): (() => Promise<void>) =>
    async () => {
      const talk = await patiently(Talk.to(port, { tls, from: HOME }));
      const said = await patiently(talk.until((text) => text.includes('\r\n')));
      talk.end();
      if (!/^(220|\+OK)/.test(said)) throw new Error(said || 'cut off');
    };
  const doors: Record<string, () => Promise<void>> = {
    'port 25': greeting(ports.smtp, false),
    'port 465': greeting(ports.submissions, true),
    'port 995': greeting(ports.pop3s, true),
    console: async () => {
      const response = await fetch(`http://127.0.0.1:${ports.web}/metrics`, { signal: AbortSignal.timeout(PATIENCE_MS) });
      const turn = Number(/^tenedor_turn_wait_seconds (\S+)/m.exec(await response.text())?.[1]);
      if (!(turn >= 0)) throw new Error('the metrics do not tell the longest turn');
      diary.turns.push(turn * 1000);
    },
  };
  return Object.entries(doors).map(([door, knock]) =>
    goOn(`knocking at ${door}`, watched, diary, until, async () => {
      if (!watched.isUp) return pause(50);
      const begun = performance.now();
      const { upSince } = watched;
      await knock();
      // What began before it was stopped says nothing of how long it takes to answer.
      if (watched.isUp && watched.upSince === upSince)
        diary.waited(begun - upSince < JUST_UP_MS ? `${door}, just after a start` : door, performance.now() - begun);
      await pause(500);
    }),
  );
}
