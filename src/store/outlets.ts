import type { TlsMode } from '../core/vocabulary.ts';
import type { Database } from './database.ts';

/** A way out for mail: direct by MX, or through a smart host. */
export interface Outlet {
  id: number;
  name: string;
  kind: 'direct' | 'smart-host';
  host: string | null;
  port: number | null;
  tls: TlsMode;
  user: string | null;
  sourceIpv4: string | null;
  sourceIpv6: string | null;
  /** Whose mail it is for: of anybody, or of those named; without a name, of nobody. */
  senders: { isAny: boolean; customers: string[]; domains: string[] };
  destinations: string[];
  position: number;
  isOn: boolean;
  whenSpent: 'next' | 'wait';
  /** What SPF records of domains that send through it must include. */
  spfInclude: string | null;
  createdAt: number;
}

type Row = Omit<Outlet, 'senders' | 'destinations' | 'isOn'> & { senders: string; destinations: string; isOn: number };
const OUTLET = `SELECT id, name, kind, host, port, tls, user, source_ipv4 AS sourceIpv4, source_ipv6 AS sourceIpv6, destinations, position,
  json_object('isAny', json(iif(senders ->> 'isAny', 'true', 'false')),
    'customers', (SELECT json_group_array(name) FROM (SELECT name FROM customer WHERE id IN (SELECT value FROM json_each(outlet.senders, '$.customers')) ORDER BY name)),
    'domains', (SELECT json_group_array(name) FROM (SELECT name FROM domain WHERE id IN (SELECT value FROM json_each(outlet.senders, '$.domains')) ORDER BY name))) AS senders,
  is_on AS isOn, when_spent AS whenSpent, spf_include AS spfInclude, created_at AS createdAt FROM outlet`;
const fromRow = (row: Row): Outlet => ({
  ...row,
  senders: JSON.parse(row.senders),
  destinations: JSON.parse(row.destinations),
  isOn: row.isOn === 1,
});

/** In their order. Every attempt asks. */
export const listOutlets = (db: Database): readonly Outlet[] =>
  db.kept('outlets', () => db.all<Row>(`${OUTLET} ORDER BY position, id`).map(fromRow));
export function findOutlet(db: Database, name: string): Outlet | undefined {
  const row = db.one<Row>(`${OUTLET} WHERE name = ?`, name);
  return row && fromRow(row);
}
/** The sealed password; it never leaves the service. */
export const outletSecret = (db: Database, id: number): string | null =>
  db.one<{ secret: string | null }>('SELECT secret FROM outlet WHERE id = ?', id)?.secret ?? null;

export type OutletValues = Omit<Outlet, 'id' | 'createdAt'>;

/** By number: a name that comes back is another one's. */
const senderIds = (db: Database, { isAny, customers, domains }: Outlet['senders']): string => {
  const ids = (table: 'customer' | 'domain', names: readonly string[]): number[] =>
    db
      .all<{ id: number }>(`SELECT id FROM ${table} WHERE name IN (SELECT value FROM json_each(?))`, JSON.stringify(names))
      .map((row) => row.id);
  return JSON.stringify({ isAny, customers: ids('customer', customers), domains: ids('domain', domains) });
};

const columns = (db: Database, values: OutletValues) =>
  ({
    name: values.name,
    kind: values.kind,
    host: values.host,
    port: values.port,
    tls: values.tls,
    user: values.user,
    sourceIpv4: values.sourceIpv4,
    sourceIpv6: values.sourceIpv6,
    senders: senderIds(db, values.senders),
    destinations: JSON.stringify(values.destinations),
    position: values.position,
    isOn: values.isOn ? 1 : 0,
    whenSpent: values.whenSpent,
    spfInclude: values.spfInclude,
  }) as const;

export const addOutlet = (db: Database, values: OutletValues, now: number): number =>
  db.run(
    `INSERT INTO outlet (id, name, kind, host, port, tls, user, source_ipv4, source_ipv6, senders, destinations, position, is_on, when_spent, spf_include, created_at)
     VALUES (@id, @name, @kind, @host, @port, @tls, @user, @sourceIpv4, @sourceIpv6, @senders, @destinations, @position, @isOn, @whenSpent, @spfInclude, @now)`,
    { ...columns(db, values), id: db.nextNumber('outlet'), now },
  ).id;
export const changeOutlet = (db: Database, id: number, values: OutletValues) =>
  db.run(
    `UPDATE outlet SET name = @name, kind = @kind, host = @host, port = @port, tls = @tls, user = @user, source_ipv4 = @sourceIpv4, source_ipv6 = @sourceIpv6,
       senders = @senders, destinations = @destinations, position = @position, is_on = @isOn, when_spent = @whenSpent, spf_include = @spfInclude WHERE id = @id`,
    { ...columns(db, values), id },
  );
export const setOutletSecret = (db: Database, id: number, secret: string | null) =>
  db.run('UPDATE outlet SET secret = ? WHERE id = ?', secret, id);
export const removeOutlet = (db: Database, id: number) => db.run('DELETE FROM outlet WHERE id = ?', id);
