import fc from 'fast-check';
import { afterAll, expect, it } from 'vitest';
import { addMailbox } from '../../../src/service/directory/mailboxes.ts';
import { type Bare, openBare } from '../../support/context.ts';
import { ImapTalk, mailroomFor } from '../../support/imap-talk.ts';

const bare: Bare = await openBare();
afterAll(() => bare.close());

/** What a folder is, as plainly as can be. */
interface ModelFolder {
  nextUid: number;
  messages: { uid: number; flags: Set<string> }[];
}
type Model = Record<string, ModelFolder>;

const FOLDERS = ['INBOX', 'Archive'];
const FLAGS = ['\\Seen', '\\Deleted', '\\Flagged', 'Work'];

/** What a mail program knows of its folder: it believes what it is told, and nothing else. */
class Client {
  folder = '';
  /** By sequence number; null while the UID is not known. */
  known: (number | null)[] = [];
  readonly flags = new Map<number, string>();

  constructor(readonly talk: ImapTalk) {}

  async ask(command: string): Promise<string[]> {
    const lines = await this.talk.ask(command);
    for (const line of lines) this.hear(line);
    expect(lines.at(-1), `${command} → ${lines.join(' | ')}`).toMatch(/^(OK|NO \[EXPUNGEISSUED\])/);
    return lines;
  }

  hear(line: string): void {
    const [, number = '', what = '', rest = ''] = /^\* (\d+) (EXISTS|EXPUNGE|FETCH)(.*)$/.exec(line) ?? [];
    const sequence = Number(number);
    if (what === 'EXISTS') {
      expect(sequence).toBeGreaterThanOrEqual(this.known.length);
      while (this.known.length < sequence) this.known.push(null);
    } else if (what === 'EXPUNGE') {
      expect(sequence).toBeLessThanOrEqual(this.known.length);
      this.known.splice(sequence - 1, 1);
    } else if (what === 'FETCH') {
      expect(sequence).toBeLessThanOrEqual(this.known.length);
      const uid = /UID (\d+)/.exec(rest)?.[1];
      if (uid !== undefined) {
        // A number never means another message.
        expect([null, Number(uid)]).toContain(this.known[sequence - 1]);
        this.known[sequence - 1] = Number(uid);
      }
      const flags = /FLAGS \(([^)]*)\)/.exec(rest)?.[1];
      const own = this.known[sequence - 1];
      if (flags !== undefined && own) this.flags.set(own, flags);
    }
  }

  async select(folder: string): Promise<void> {
    this.folder = folder;
    this.known = [];
    this.flags.clear();
    await this.ask(`SELECT ${folder}`);
    if (this.known.length > 0) await this.ask('FETCH 1:* (UID FLAGS)');
  }
}

type Step =
  | { kind: 'append'; client: number; folder: string; flags: string[] }
  | { kind: 'store'; client: number; at: number; span: number; how: '+' | '-' | ''; flags: string[]; byUid: boolean }
  | { kind: 'put'; how: 'COPY' | 'MOVE'; client: number; at: number; span: number; to: string }
  | { kind: 'expunge'; client: number }
  | { kind: 'noop'; client: number }
  | { kind: 'fetch'; client: number }
  | { kind: 'select'; client: number; folder: string };

const CLIENTS = 3;
const client = fc.nat(CLIENTS - 1);
const folder = fc.constantFrom(...FOLDERS);
const flags = fc.uniqueArray(fc.constantFrom(...FLAGS), { maxLength: 2 });
const place = { at: fc.nat(8), span: fc.nat(3) };
const step: fc.Arbitrary<Step> = fc.oneof(
  { weight: 4, arbitrary: fc.record({ kind: fc.constant('append' as const), client, folder, flags }) },
  {
    weight: 4,
    arbitrary: fc.record({
      kind: fc.constant('store' as const),
      client,
      ...place,
      how: fc.constantFrom('+', '-', ''),
      flags,
      byUid: fc.boolean(),
    }),
  },
  {
    weight: 3,
    arbitrary: fc.record({
      kind: fc.constant('put' as const),
      how: fc.constantFrom('COPY' as const, 'MOVE' as const),
      client,
      ...place,
      to: folder,
    }),
  },
  {
    weight: 4,
    arbitrary: fc.oneof(...(['expunge', 'noop', 'fetch'] as const).map((kind) => fc.record({ kind: fc.constant(kind), client }))),
  },
  { weight: 1, arbitrary: fc.record({ kind: fc.constant('select' as const), client, folder }) },
);

/** Does a step at a client, and to the model. */
async function perform(one: Step, clients: readonly Client[], model: Model): Promise<void> {
  const who = clients[one.client] as Client;
  const own = model[who.folder] as ModelFolder;
  /** The UIDs that the client means by some of its numbers, as far as they are there still. */
  const meant = (at: number, span: number): { from: number; to: number; uids: number[] } | null => {
    const from = at + 1;
    const to = Math.min(who.known.length, from + span);
    return from > to ? null : { from, to, uids: who.known.slice(from - 1, to).filter((uid) => uid !== null) };
  };
  if (one.kind === 'append') {
    await who.ask(`APPEND ${one.folder} (${one.flags.join(' ')}) {4+}\r\ntext`);
    put(model[one.folder] as ModelFolder, one.flags);
  } else if (one.kind === 'select') await who.select(one.folder);
  else if (one.kind === 'noop') await who.ask('NOOP');
  else if (one.kind === 'fetch') {
    if (who.known.length > 0) await who.ask('FETCH 1:* (UID FLAGS)');
  } else if (one.kind === 'expunge') {
    await who.ask('EXPUNGE');
    own.messages = own.messages.filter((message) => !message.flags.has('\\Deleted'));
  } else if (one.kind === 'store') {
    const some = meant(one.at, one.span);
    if (!some || some.uids.length < some.to - some.from + 1) return;
    const set = one.byUid ? some.uids.join(',') : `${some.from}:${some.to}`;
    await who.ask(`${one.byUid ? 'UID ' : ''}STORE ${set} ${one.how}FLAGS (${one.flags.join(' ')})`);
    for (const message of own.messages)
      if (some.uids.includes(message.uid)) {
        if (one.how === '') message.flags.clear();
        for (const flag of one.flags) one.how === '-' ? message.flags.delete(flag) : message.flags.add(flag);
      }
  } else {
    const some = meant(one.at, one.span);
    if (!some || some.uids.length < some.to - some.from + 1) return;
    await who.ask(`UID ${one.how} ${some.uids.join(',')} ${one.to}`);
    const moved = own.messages.filter((message) => some.uids.includes(message.uid));
    for (const message of moved) put(model[one.to] as ModelFolder, [...message.flags]);
    if (one.how === 'MOVE') own.messages = own.messages.filter((message) => !moved.includes(message));
  }
}

const put = (into: ModelFolder, flags: readonly string[]): void => {
  into.messages.push({ uid: into.nextUid, flags: new Set(flags) });
  into.nextUid += 1;
};
const sorted = (names: Iterable<string>): string[] => [...names].sort();

let number = 0;
it('several programs on the same folders, whatever they do: each knows in the end what is there, and no number ever means another message', async () => {
  await fc.assert(
    fc.asyncProperty(fc.array(step, { minLength: 1, maxLength: 40 }), async (steps) => {
      number += 1;
      const address = `model${number}@shop.example`;
      await bare.context.db.commit(() => bare.context.db.run('UPDATE plan SET most_mailboxes = 100000'));
      await addMailbox(bare.context, { address, password: null, quotaBytes: null });
      const mailroom = mailroomFor(bare, address);
      const clients = await Promise.all(Array.from({ length: CLIENTS }, async () => new Client(await ImapTalk.signedIn(mailroom))));
      const model: Model = Object.fromEntries(FOLDERS.map((name) => [name, { nextUid: 1, messages: [] }]));
      for (const [at, one] of clients.entries()) await one.select(FOLDERS[at % 2] as string);
      for (const one of steps) await perform(one, clients, model);
      for (const one of clients) {
        await one.ask('NOOP');
        if (one.known.length > 0) await one.ask('FETCH 1:* (UID FLAGS)');
        const { messages } = model[one.folder] as ModelFolder;
        expect(one.known).toEqual(messages.map((message) => message.uid));
        for (const { uid, flags: has } of messages)
          expect(sorted((one.flags.get(uid) ?? '').split(' ').filter(Boolean))).toEqual(sorted(has));
      }
      for (const name of FOLDERS) {
        const { messages, nextUid } = model[name] as ModelFolder;
        const [status] = await (clients[0] as Client).talk.ask(`STATUS ${name} (MESSAGES UIDNEXT UNSEEN DELETED SIZE)`);
        const count = (flag: string, has: boolean): number => messages.filter((one) => one.flags.has(flag) === has).length;
        expect(status).toBe(
          `* STATUS "${name}" (MESSAGES ${messages.length} UIDNEXT ${nextUid} UNSEEN ${count('\\Seen', false)} DELETED ${count('\\Deleted', true)} SIZE ${4 * messages.length})`,
        );
      }
    }),
    { numRuns: 60 },
  );
});
