import { removeCustomer } from './customers.ts';
import type { Database } from './database.ts';
import { removeDomain } from './domains.ts';
import { removeAlias, removeMailbox } from './mailboxes.ts';

/** What lists hold, and what comes with it. */
export type ListedKind = 'customer' | 'domain' | 'mailbox' | 'alias';
interface ListedRow {
  load: number;
  place: number;
  kind: ListedKind;
  row: number;
}

const REMOVE: Record<ListedKind, (db: Database, row: number) => void> = {
  // Somebody may have given it a domain meanwhile: then it stays.
  customer: (db, row) => {
    if (!db.one('SELECT 1 FROM domain WHERE customer_id = ?', row)) removeCustomer(db, row);
  },
  domain: removeDomain,
  mailbox: removeMailbox,
  alias: removeAlias,
};

/** Notes what was added, in the commit that adds it. */
export const noteListedRow = (db: Database, { load, place, kind, row }: ListedRow) =>
  db.run('INSERT INTO listed_row (load, place, kind, row) VALUES (?, ?, ?, ?)', load, place, kind, row);

/** A load has come to its end: what it added stays. */
export const keepListedRows = (db: Database, load: number) => db.run('DELETE FROM listed_row WHERE load = ?', load);

/** What a load has added, or what all have that came to no end; the newest first. */
export const listListedRows = (db: Database, load: number | null): ListedRow[] =>
  db.all<ListedRow>('SELECT load, place, kind, row FROM listed_row WHERE load = coalesce(?, load) ORDER BY load DESC, place DESC', load);

/** Takes away what was added. */
export function removeListedRow(db: Database, { load, place, kind, row }: ListedRow): void {
  REMOVE[kind](db, row);
  db.run('DELETE FROM listed_row WHERE load = ? AND place = ?', load, place);
}
