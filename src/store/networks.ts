import type { Database } from './database.ts';

/**
 * A network that is trusted: its mail is not held against its senders (forwarders, mailing lists, a second server), its sign-ins are never
 * locked out, and it may submit without signing in where that is set.
 */
export interface Network {
  id: number;
  cidr: string;
  note: string;
  maySubmit: boolean;
  /** Whether it may submit as any domain. */
  anyDomain: boolean;
  /** Domains as which it may submit; without any, as nobody. */
  domains: string[];
  createdAt: number;
}

type Row = Omit<Network, 'maySubmit' | 'anyDomain' | 'domains'> & { maySubmit: number; anyDomain: number; domains: string };
const NETWORK = `SELECT n.id, n.cidr, n.note, n.may_submit AS maySubmit, n.any_domain AS anyDomain, n.created_at AS createdAt,
  (SELECT json_group_array(d.name) FROM network_domain nd JOIN domain d ON d.id = nd.domain_id WHERE nd.network_id = n.id) AS domains FROM network n`;
const fromRow = (row: Row): Network => ({
  ...row,
  maySubmit: row.maySubmit === 1,
  anyDomain: row.anyDomain === 1,
  domains: JSON.parse(row.domains),
});

export const listNetworks = (db: Database): Network[] => db.all<Row>(`${NETWORK} ORDER BY n.cidr`).map(fromRow);
export function findNetwork(db: Database, cidr: string): Network | undefined {
  const row = db.one<Row>(`${NETWORK} WHERE n.cidr = ?`, cidr);
  return row && fromRow(row);
}
export const addNetwork = (db: Database, cidr: string, note: string, now: number): number =>
  db.run('INSERT INTO network (id, cidr, note, created_at) VALUES (?, ?, ?, ?)', db.nextNumber('network'), cidr, note, now).id;
export function setNetwork(
  db: Database,
  id: number,
  values: { note: string; maySubmit: boolean; anyDomain: boolean; domainIds: readonly number[] },
): void {
  const { note, maySubmit, anyDomain } = values;
  db.run('UPDATE network SET note = ?, may_submit = ?, any_domain = ? WHERE id = ?', note, maySubmit ? 1 : 0, anyDomain ? 1 : 0, id);
  db.run('DELETE FROM network_domain WHERE network_id = ?', id);
  for (const domainId of values.domainIds) db.run('INSERT INTO network_domain (network_id, domain_id) VALUES (?, ?)', id, domainId);
}
export const removeNetwork = (db: Database, id: number) => db.run('DELETE FROM network WHERE id = ?', id);
/** Whether any network may send as a domain by name; one that may send as anybody says nothing of this one. */
export const mayNetworksSend = (db: Database, domainId: number): boolean =>
  db.one(
    'SELECT 1 FROM network_domain nd JOIN network n ON n.id = nd.network_id WHERE nd.domain_id = ? AND n.may_submit = 1 LIMIT 1',
    domainId,
  ) !== undefined;
