import type { Database } from './database.ts';

/** A zone that the operator runs, with the server that takes updates and the key that signs them. */
export interface DnsZone {
  id: number;
  name: string;
  server: string;
  port: number;
  keyName: string;
  algorithm: string;
  createdAt: number;
}

const COLUMNS = 'id, name, server, port, key_name AS keyName, algorithm, created_at AS createdAt';

export const listZones = (db: Database): DnsZone[] => db.all<DnsZone>(`SELECT ${COLUMNS} FROM dns_zone ORDER BY name`);
/** All of them, by their names. */
export const zonesByName = (db: Database): ReadonlyMap<string, DnsZone> =>
  db.kept('zones', () => new Map(listZones(db).map((one) => [one.name, one])));
export const findZone = (db: Database, name: string) => db.one<DnsZone>(`SELECT ${COLUMNS} FROM dns_zone WHERE name = ?`, name);
/** The key's secret in base64; it never leaves the service. */
export const zoneSecret = (db: Database, id: number): string =>
  db.one<{ secret: string }>('SELECT secret FROM dns_zone WHERE id = ?', id)?.secret ?? '';

export function putZone(db: Database, zone: Omit<DnsZone, 'id' | 'createdAt'> & { secret: string }, now: number): void {
  db.run(
    `INSERT INTO dns_zone (id, name, server, port, key_name, algorithm, secret, created_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
     ON CONFLICT (name) DO UPDATE SET server = excluded.server, port = excluded.port, key_name = excluded.key_name,
       algorithm = excluded.algorithm, secret = excluded.secret`,
    db.nextNumber('dns_zone'),
    zone.name,
    zone.server,
    zone.port,
    zone.keyName,
    zone.algorithm,
    zone.secret,
    now,
  );
}

export const removeZone = (db: Database, id: number) => db.run('DELETE FROM dns_zone WHERE id = ?', id);
