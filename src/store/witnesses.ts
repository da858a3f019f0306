import type { Database } from './database.ts';

/** Another host that rehearses for this one, or for which this one rehearses. */
export interface Witness {
  id: number;
  name: string;
  /** Where it is asked; null where it only asks. */
  url: string | null;
  /** Null until both have been introduced. */
  publicKey: string | null;
  /** Until when the one-time code is good. */
  codeUntil: number | null;
  addedAt: number;
  /** When it rehearsed for this host. */
  askedAt: number | null;
  /** When this host rehearsed for it. */
  asksAt: number | null;
}

const WITNESS = `SELECT id, name, url, public_key AS publicKey, code_until AS codeUntil, added_at AS addedAt, asked_at AS askedAt, asks_at AS asksAt
  FROM witness`;

export const listWitnesses = (db: Database): Witness[] => db.all<Witness>(`${WITNESS} ORDER BY name`);
export const findWitness = (db: Database, name: string): Witness | undefined => db.one<Witness>(`${WITNESS} WHERE name = ?`, name);

/** Writes down who is to introduce itself, by that code (sealed); a new one takes the place of an older one. */
export function inviteWitness(db: Database, name: string, code: string, codeUntil: number, now: number): void {
  db.run(
    `INSERT INTO witness (id, name, code, code_until, added_at) VALUES (?, ?, ?, ?, ?)
     ON CONFLICT (name) DO UPDATE SET code = excluded.code, code_until = excluded.code_until`,
    db.nextNumber('witness'),
    name,
    code,
    codeUntil,
    now,
  );
}

/** The sealed code by which somebody of that name introduces itself; null where there is none, or its time has passed. */
export const openCode = (db: Database, name: string, now: number): string | null =>
  db.one<{ code: string }>('SELECT code FROM witness WHERE name = ? AND code IS NOT NULL AND code_until > ?', name, now)?.code ?? null;

/** Both know each other now; a code has served. Where it is asked is kept, unless it says so anew. */
export const keepWitness = (
  db: Database,
  { name, url, publicKey }: { name: string; url: string | null; publicKey: string },
  now: number,
): void => {
  db.run(
    `INSERT INTO witness (id, name, url, public_key, added_at) VALUES (?, ?, ?, ?, ?)
     ON CONFLICT (name) DO UPDATE SET url = coalesce(excluded.url, url), public_key = excluded.public_key, code = NULL, code_until = NULL`,
    db.nextNumber('witness'),
    name,
    url,
    publicKey,
    now,
  );
};

export const removeWitness = (db: Database, name: string): boolean => db.run('DELETE FROM witness WHERE name = ?', name).changes === 1;
export const noteAsked = (db: Database, name: string, now: number): void => {
  db.run('UPDATE witness SET asked_at = ? WHERE name = ?', now, name);
};
export const noteAsks = (db: Database, name: string, now: number): void => {
  db.run('UPDATE witness SET asks_at = ? WHERE name = ?', now, name);
};
