import type { Order } from '../core/vocabulary.ts';
import type { Database } from './database.ts';
import { type PageAsked, readPage } from './page.ts';

/** An address whose owner has gone elsewhere. */
export interface MovedAddress {
  address: string;
  domain: string;
  /** Null where it is not told. */
  to: string | null;
  /** Until then mail is led there, in ms; null for not at all. */
  forwardUntil: number | null;
  since: number;
}

const COLUMNS = `m.local || '@' || d.name AS address, d.name AS domain, m.to_address AS "to", m.forward_until AS forwardUntil, m.created_at AS since`;
const FROM = 'moved_address m JOIN domain d ON d.id = m.domain_id';

export const findMoved = (db: Database, local: string, domain: string) =>
  db.one<MovedAddress>(`SELECT ${COLUMNS} FROM ${FROM} WHERE m.local = ? AND d.name = ?`, local, domain);

const ORDERS: Record<Order<'movedAddresses'>, readonly string[]> = { address: ['m.local'], since: ['m.created_at DESC', 'm.local'] };
export const pageOfMoved = (db: Database, domainId: number, asked: PageAsked & { sort: Order<'movedAddresses'> }) =>
  readPage<MovedAddress>(
    db,
    {
      columns: COLUMNS,
      from: FROM,
      matches: `d.id = @domainId AND (m.local || '@' || d.name LIKE @like ESCAPE '\\' OR coalesce(m.to_address, '') LIKE @like ESCAPE '\\')`,
      values: { domainId },
      order: ORDERS[asked.sort],
    },
    asked,
  );

export const addMoved = (
  db: Database,
  one: { domainId: number; local: string; to: string | null; forwardUntil: number | null; since: number },
): void => {
  db.run(
    'INSERT INTO moved_address (id, domain_id, local, to_address, forward_until, created_at) VALUES (?, ?, ?, ?, ?, ?)',
    db.nextNumber('moved_address'),
    one.domainId,
    one.local,
    one.to,
    one.forwardUntil,
    one.since,
  );
};
export const removeMoved = (db: Database, local: string, domain: string) =>
  db.run('DELETE FROM moved_address WHERE local = ? AND domain_id = (SELECT id FROM domain WHERE name = ?)', local, domain);

/** Mail is no longer led to an address that goes, or to any address of a domain (`@domain`). */
export const endLeading = (db: Database, address: string) =>
  db.run(
    `UPDATE moved_address SET forward_until = NULL WHERE to_address = @address OR substr(to_address, instr(to_address, '@')) = @address`,
    { address },
  );
