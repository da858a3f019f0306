import { availableParallelism } from 'node:os';
import { Gate } from '../../../core/gate.ts';
import type { ListName } from '../../../core/vocabulary.ts';
import { removeCustomer } from '../../../store/customers.ts';
import { removeDomain } from '../../../store/domains.ts';
import { addEntry } from '../../../store/journeys.ts';
import * as store from '../../../store/mailboxes.ts';
import { Problem } from '../../base/problem.ts';
import { fastHash, generatedListPassword, hashPassword } from '../../base/secrets.ts';
import { cleanCustomer, insertCustomer } from '../customers.ts';
import type { DirectoryDeps } from '../deps.ts';
import { insertDomain, requireDomain, requireHome } from '../domains.ts';
import { type KeyPair, newKeyPair } from '../signing-keys.ts';
import { readCustomerList } from './customer-list.ts';
import { type ListedDomain, readDomainList } from './domain-list.ts';
import { type ListedMailbox, readMailboxList } from './mailbox-list.ts';
import type { ListFault } from './read-csv.ts';

/** Lists as CSV; null for one that is not given. */
export type GivenLists = Record<ListName, string | null>;

export interface LoadResult {
  /** How many were added: all of them, or none. */
  loaded: Record<ListName, number>;
  /** What is wrong with the lists, by their lines; empty when they were loaded, or could be. */
  faults: ListFault[];
  /** Passwords that were made, shown this once. */
  passwords: { address: string; password: string }[];
}

/** Rows that are added in one commit: some ten milliseconds' worth. */
const A_PIECE = 100;
/** What is told of at once: the rest is found when these are mended. */
const MOST_FAULTS = 200;

type Ready = ListedMailbox & { passwordHash: string };

/**
 * Adds all customers, domains and mailboxes of some lists, or none: they are looked at whole first, each with what comes with it. With `isTrial` they are
 * only looked at. Passwords that are made here carry more than 120 bits, and need no slow hash; chosen ones do, and take their time.
 */
export async function loadLists(context: DirectoryDeps, given: GivenLists, isTrial: boolean): Promise<LoadResult> {
  const nothing = { rows: [], faults: [] };
  const customers = given.customers === null ? nothing : readCustomerList(context, given.customers);
  const domains = given.domains === null ? nothing : readDomainList(context, given.domains, customers.rows);
  const mailboxes = given.mailboxes === null ? nothing : await readMailboxList(context, given.mailboxes, domains.rows);
  const faults = [customers, domains, mailboxes].flatMap((one) => one.faults.sort((first, other) => first.line - other.line));
  if (faults.length > 0 || isTrial)
    return { loaded: { customers: 0, domains: 0, mailboxes: 0 }, faults: faults.slice(0, MOST_FAULTS), passwords: [] };
  const keys = await keysFor(domains.rows);
  const { ready, passwords } = await hashed(mailboxes.rows);
  const added: { undo: () => void }[] = [];
  const addPieces = async <Row>(rows: readonly Row[], add: (row: Row) => { undo: () => void }): Promise<void> => {
    for (let at = 0; at < rows.length; at += A_PIECE) added.push(...(await context.db.commit(() => rows.slice(at, at + A_PIECE).map(add))));
  };
  try {
    await addPieces(customers.rows, (one) => {
      const id = insertCustomer(context, cleanCustomer(context, one.name, one.contact));
      return { undo: () => removeCustomer(context.db, id) };
    });
    await addPieces(domains.rows, (one) => {
      const id = insertDomain(context, one, keys.get(one) as KeyPair);
      return { undo: () => removeDomain(context.db, id) };
    });
    await addPieces(ready, (one) => addOne(context, one));
  } catch (error) {
    // Something came in between, such as another mailbox of that name: what was added already goes again.
    await context.db.commit(() => {
      for (const { undo } of added.reverse()) undo();
    });
    throw error;
  }
  return {
    loaded: { customers: customers.rows.length, domains: domains.rows.length, mailboxes: mailboxes.rows.length },
    faults: [],
    passwords,
  };
}

/** A few at a time: they are made where files are read and mail is signed, too. */
const atOnce = (): Gate => new Gate(Math.max(1, availableParallelism() - 1));

async function keysFor(domains: readonly ListedDomain[]): Promise<Map<ListedDomain, KeyPair>> {
  const gate = atOnce();
  return new Map(await Promise.all(domains.map(async (one) => [one, await gate.run(() => newKeyPair('rsa'))] as const)));
}

async function hashed(rows: readonly ListedMailbox[]): Promise<{ ready: Ready[]; passwords: LoadResult['passwords'] }> {
  const passwords: LoadResult['passwords'] = [];
  const gate = atOnce();
  const ready = await Promise.all(
    rows.map(async (row): Promise<Ready> => {
      if (row.hash !== null) return { ...row, passwordHash: row.hash };
      if (row.password !== null) return { ...row, passwordHash: await gate.run(() => hashPassword(row.password ?? '')) };
      const password = generatedListPassword();
      passwords.push({ address: `${row.local}@${row.domain}`, password });
      return { ...row, passwordHash: fastHash(password) };
    }),
  );
  return { ready, passwords };
}

function addOne(
  context: DirectoryDeps,
  { local, domain: name, name: called, passwordHash, quotaBytes, aliases }: Ready,
): { undo: () => void } {
  const { db, clock } = context;
  const domain = requireDomain(context, name);
  requireHome(domain);
  const address = `${local}@${domain.name}`;
  for (const one of [local, ...aliases])
    if (store.lookUpMailbox(db, one, domain.name) || store.findAlias(db, one, domain.name))
      throw new Problem('exists-already', `${one}@${domain.name} was added in the meantime; nothing of the lists was.`, 'Load them again.');
  const id = store.addMailbox(
    db,
    { domainId: domain.id, local, name: called, passwordHash, quotaBytes: quotaBytes ?? domain.quotaBytes },
    clock.now(),
  );
  const made = aliases.map((alias) => store.addAlias(db, domain.id, alias, [address], clock.now()));
  addEntry(db, { at: clock.now(), journeyId: null, domain: domain.name, event: 'mailbox-added', data: { address } });
  return {
    undo: () => {
      for (const one of made) store.removeAlias(db, one);
      store.removeMailbox(db, id);
    },
  };
}
