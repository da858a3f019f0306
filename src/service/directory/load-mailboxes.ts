import { availableParallelism } from 'node:os';
import { Gate } from '../../core/gate.ts';
import { breathe } from '../../core/pieces.ts';
import { addEntry } from '../../store/journeys.ts';
import * as store from '../../store/mailboxes.ts';
import { Problem } from '../base/problem.ts';
import { fastHash, generatedListPassword, hashPassword } from '../base/secrets.ts';
import type { DirectoryDeps } from './deps.ts';
import { count, requireDomain, requireHome } from './domains.ts';
import { A_TURN, type ListedMailbox, type ListFault, MOST_FAULTS, readMailboxList } from './mailbox-list.ts';

interface LoadResult {
  /** How many mailboxes were added: all of them, or none. */
  loaded: number;
  /** What is wrong with the list, by its lines; empty when it was loaded, or could be. */
  faults: ListFault[];
  /** Passwords that were made, shown this once. */
  passwords: { address: string; password: string }[];
}

/** Mailboxes that are added in one commit: some ten milliseconds' worth. */
const A_PIECE = 100;

type Ready = ListedMailbox & { passwordHash: string };

/**
 * Adds all mailboxes of a list with their aliases, or none: the list is looked at whole first. With `isTrial` it is only looked at. Passwords that are made
 * here carry more than 120 bits, and need no slow hash; chosen ones do, and take their time.
 */
export async function loadMailboxes(context: DirectoryDeps, csv: string, isTrial: boolean): Promise<LoadResult> {
  const { db } = context;
  const { rows, faults } = await readMailboxList(context, csv);
  faults.push(...(await takenFaults(context, rows)));
  if (faults.length > 0 || isTrial)
    return { loaded: 0, faults: faults.sort((one, other) => one.line - other.line).slice(0, MOST_FAULTS), passwords: [] };
  const passwords: { address: string; password: string }[] = [];
  // A few at a time: they run where files are read and mail is signed, too.
  const hashing = new Gate(Math.max(1, availableParallelism() - 1));
  const ready = await Promise.all(
    rows.map(async (row): Promise<Ready> => {
      if (row.password !== null) return { ...row, passwordHash: await hashing.run(() => hashPassword(row.password ?? '')) };
      const password = generatedListPassword();
      passwords.push({ address: `${row.local}@${row.domain}`, password });
      return { ...row, passwordHash: fastHash(password) };
    }),
  );
  const added: { mailboxes: number[]; aliases: number[] } = { mailboxes: [], aliases: [] };
  try {
    for (let at = 0; at < ready.length; at += A_PIECE) {
      const made = await db.commit(() => addSome(context, ready.slice(at, at + A_PIECE)));
      added.mailboxes.push(...made.mailboxes);
      added.aliases.push(...made.aliases);
    }
  } catch (error) {
    // Something came in between, such as another mailbox of that name: what was added already goes again.
    await db.commit(() => {
      for (const id of added.aliases) store.removeAlias(db, id);
      for (const id of added.mailboxes) store.removeMailbox(db, id);
    });
    throw error;
  }
  return { loaded: rows.length, faults: [], passwords };
}

/** What stands in the way of rows that are right by themselves: addresses that are taken, plans that are full. */
async function takenFaults({ db }: DirectoryDeps, rows: readonly ListedMailbox[]): Promise<ListFault[]> {
  const faults: ListFault[] = [];
  const byDomain = new Map<string, ListedMailbox[]>();
  for (const [place, row] of rows.entries()) {
    if (place % A_TURN === A_TURN - 1) await breathe();
    const own = byDomain.get(row.domain);
    if (own) own.push(row);
    else byDomain.set(row.domain, [row]);
    for (const local of [row.local, ...row.aliases]) {
      const taken = store.lookUpMailbox(db, local, row.domain) ? 'a mailbox' : store.findAlias(db, local, row.domain) ? 'an alias' : null;
      if (taken) faults.push({ line: row.line, text: `${local}@${row.domain} is already ${taken}.` });
    }
  }
  for (const [name, some] of byDomain) {
    const room = store.roomForMailboxes(db, name);
    if (room && room.has + some.length > room.most)
      faults.push({
        line: some.at(-1)?.line ?? 1,
        text: `${name} has ${count(room.has, 'mailbox', 'mailboxes')}, and its plan “${room.plan}” allows ${room.most}: ${some.length} more are too many.`,
      });
  }
  return faults;
}

function addSome(context: DirectoryDeps, some: readonly Ready[]): { mailboxes: number[]; aliases: number[] } {
  const { db, clock } = context;
  const made: { mailboxes: number[]; aliases: number[] } = { mailboxes: [], aliases: [] };
  for (const { local, domain: name, passwordHash, quotaBytes, aliases } of some) {
    const domain = requireDomain(context, name);
    requireHome(domain);
    const address = `${local}@${domain.name}`;
    for (const one of [local, ...aliases])
      if (store.lookUpMailbox(db, one, domain.name) || store.findAlias(db, one, domain.name))
        throw new Problem(
          'exists-already',
          `${one}@${domain.name} was added in the meantime; nothing of the list was.`,
          'Load the list again.',
        );
    made.mailboxes.push(
      store.addMailbox(db, { domainId: domain.id, local, passwordHash, quotaBytes: quotaBytes ?? domain.quotaBytes }, clock.now()),
    );
    for (const alias of aliases) made.aliases.push(store.addAlias(db, domain.id, alias, [address], clock.now()));
    addEntry(db, { at: clock.now(), journeyId: null, domain: domain.name, event: 'mailbox-added', data: { address } });
  }
  return made;
}
