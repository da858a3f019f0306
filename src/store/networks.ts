import type { Database } from './database.ts';

/** A network whose mail is not held against its senders: forwarders, mailing lists, a second server. */
export interface Network {
  id: number;
  cidr: string;
  note: string;
  createdAt: number;
}

const COLUMNS = 'id, cidr, note, created_at AS createdAt';

export const listNetworks = (db: Database): Network[] => db.all<Network>(`SELECT ${COLUMNS} FROM network ORDER BY cidr`);
export const findNetwork = (db: Database, cidr: string) => db.one<Network>(`SELECT ${COLUMNS} FROM network WHERE cidr = ?`, cidr);
export const addNetwork = (db: Database, cidr: string, note: string, now: number) =>
  db.run('INSERT INTO network (cidr, note, created_at) VALUES (?, ?, ?)', cidr, note, now);
export const removeNetwork = (db: Database, id: number) => db.run('DELETE FROM network WHERE id = ?', id);
