import { availableParallelism } from 'node:os';
import { Gate } from '../../../core/gate.ts';
import type { ListName } from '../../../core/vocabulary.ts';
import type { Database } from '../../../store/database.ts';
import { addEntry } from '../../../store/journeys.ts';
import { keepListedRows, type ListedKind, listListedRows, noteListedRow, removeListedRow } from '../../../store/listed-rows.ts';
import * as store from '../../../store/mailboxes.ts';
import { Problem } from '../../base/problem.ts';
import { fastHash, generatedListPassword, hashPassword } from '../../base/secrets.ts';
import { cleanCustomer, insertCustomer } from '../customers.ts';
import type { DirectoryDeps } from '../deps.ts';
import { insertDomain, requireDomain, requireHome } from '../domains.ts';
import { type KeyPair, newKeyPair } from '../signing-keys.ts';
import { readCustomerList } from './customer-list.ts';
import { type ListedDomain, readDomainList } from './domain-list.ts';
import { type LoadResult, NOTHING_LOADED } from './load-result.ts';
import { type ListedMailbox, readMailboxList } from './mailbox-list.ts';

/** Lists as CSV; null for one that is not given. */
export type GivenLists = Record<ListName, string | null>;

/** Rows that are added in one commit: some ten milliseconds' worth. */
const A_PIECE = 100;
/** What is told of at once: the rest is found when these are mended. */
const MOST_FAULTS = 200;

type Ready = ListedMailbox & { passwordHash: string };

/**
 * Adds all customers, domains and mailboxes of some lists, or none: they are looked at whole first, each with what comes with it. With `isTrial` they are
 * only looked at. Passwords that are made here carry more than 120 bits, and need no slow hash; chosen ones do, and take their time.
 */
export async function loadLists(
  context: DirectoryDeps,
  given: GivenLists,
  isTrial: boolean,
  /** Hears how many rows are done with, of all: making keys and hashes is half of it, and adding them the other. */
  onProgress: (done: number, total: number) => void = () => {},
): Promise<LoadResult> {
  const nothing = { rows: [], faults: [] };
  const customers = given.customers === null ? nothing : readCustomerList(context, given.customers);
  const domains = given.domains === null ? nothing : readDomainList(context, given.domains, customers.rows);
  const mailboxes = given.mailboxes === null ? nothing : await readMailboxList(context, given.mailboxes, domains.rows);
  const faults = [customers, domains, mailboxes].flatMap((one) => one.faults.sort((first, other) => first.line - other.line));
  if (faults.length > 0 || isTrial) return { ...NOTHING_LOADED, faults: faults.slice(0, MOST_FAULTS) };
  const total = customers.rows.length + domains.rows.length + mailboxes.rows.length;
  let made = customers.rows.length;
  let kept = 0;
  const tell = (): void => onProgress(Math.floor((made + kept) / 2), total);
  const onMade = (): void => {
    made += 1;
    tell();
  };
  const keys = await keysFor(domains.rows, onMade);
  const { ready, passwords } = await hashed(mailboxes.rows, onMade);
  const load = new Load(context.db);
  const addPieces = async <Row>(rows: readonly Row[], add: (row: Row) => void): Promise<void> => {
    for (let at = 0; at < rows.length; at += A_PIECE) {
      const some = rows.slice(at, at + A_PIECE);
      await context.db.commit(() => some.forEach(add));
      kept += some.length;
      tell();
    }
  };
  try {
    await addPieces(customers.rows, (one) =>
      load.added('customer', insertCustomer(context, cleanCustomer(context, one.name, one.contact))),
    );
    await addPieces(domains.rows, (one) => load.added('domain', insertDomain(context, one, keys.get(one) as KeyPair)));
    await addPieces(ready, (one) => addOne(context, load, one));
    await context.db.commit(() => keepListedRows(context.db, load.number));
  } catch (error) {
    // Something came in between, such as another mailbox of that name: what was added already goes again.
    await removeListed(context.db, load.number);
    throw error;
  }
  return {
    loaded: { customers: customers.rows.length, domains: domains.rows.length, mailboxes: mailboxes.rows.length },
    faults: [],
    passwords,
  };
}

/** Takes away what lists have added that came to no end: the service was killed in their middle. */
export const removeUnfinishedLists = (db: Database): Promise<void> => removeListed(db, null);

async function removeListed(db: Database, load: number | null): Promise<void> {
  await db.commitInPieces(listListedRows(db, load), (some) => {
    for (const one of some) removeListedRow(db, one);
    return some.length;
  });
}

let lastLoad = 0;

/** What one load adds, noted with what is added, so that it can go again as a whole. */
class Load {
  readonly number: number;
  private place = 0;

  constructor(private readonly db: Database) {
    lastLoad += 1;
    this.number = lastLoad;
  }

  /** Only inside `commit`. */
  added(kind: ListedKind, row: number): void {
    this.place += 1;
    noteListedRow(this.db, { load: this.number, place: this.place, kind, row });
  }
}

/** A few at a time: they are made where files are read and mail is signed, too. */
const atOnce = (): Gate => new Gate(Math.max(1, availableParallelism() - 1));

async function keysFor(domains: readonly ListedDomain[], onMade: () => void): Promise<Map<ListedDomain, KeyPair>> {
  const gate = atOnce();
  const made = domains.map(async (one) => {
    const key = await gate.run(() => newKeyPair('rsa'));
    onMade();
    return [one, key] as const;
  });
  return new Map(await Promise.all(made));
}

async function hashed(rows: readonly ListedMailbox[], onMade: () => void): Promise<{ ready: Ready[]; passwords: LoadResult['passwords'] }> {
  const passwords: LoadResult['passwords'] = [];
  const gate = atOnce();
  const hashOf = async (row: ListedMailbox): Promise<string> => {
    if (row.hash !== null) return row.hash;
    if (row.password !== null) return gate.run(() => hashPassword(row.password ?? ''));
    const password = generatedListPassword();
    passwords.push({ address: `${row.local}@${row.domain}`, password });
    return fastHash(password);
  };
  const ready = rows.map(async (row): Promise<Ready> => {
    const passwordHash = await hashOf(row);
    onMade();
    return { ...row, passwordHash };
  });
  return { ready: await Promise.all(ready), passwords };
}

function addOne(context: DirectoryDeps, load: Load, { local, domain: name, name: called, passwordHash, quotaBytes, aliases }: Ready): void {
  const { db, clock } = context;
  const domain = requireDomain(context, name);
  requireHome(domain);
  const address = `${local}@${domain.name}`;
  for (const one of [local, ...aliases])
    if (store.lookUpMailbox(db, one, domain.name) || store.findAlias(db, one, domain.name))
      throw new Problem(
        'exists-already',
        `${one}@${domain.name} was added in the meantime; nothing from the lists was added.`,
        'Load them again.',
      );
  const id = store.addMailbox(
    db,
    { domainId: domain.id, local, name: called, passwordHash, quotaBytes: quotaBytes ?? domain.quotaBytes },
    clock.now(),
  );
  load.added('mailbox', id);
  for (const alias of aliases) load.added('alias', store.addAlias(db, domain.id, alias, [address], clock.now()));
  addEntry(db, { at: clock.now(), journeyId: null, domain: domain.name, event: 'mailbox-added', data: { address } });
}
