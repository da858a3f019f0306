import type { KeyState, KeyType } from '../core/vocabulary.ts';
import type { Database } from './database.ts';

/** A DKIM key of a domain; the private half never leaves the service. */
export interface DkimKey {
  id: number;
  selector: string;
  type: KeyType;
  publicKey: string;
  state: KeyState;
  createdAt: number;
  /** When it came to its state. */
  changedAt: number;
  /** For a key that no longer signs: when nothing that it signed can be under way any more. */
  retireAt: number | null;
}

const COLUMNS = `id, selector, type, public_key AS publicKey, state, created_at AS createdAt, changed_at AS changedAt, retire_at AS retireAt`;

/** All keys of a domain, oldest first. */
export const listKeys = (db: Database, domainId: number): DkimKey[] =>
  db.all<DkimKey>(`SELECT ${COLUMNS} FROM dkim_key WHERE domain_id = ? ORDER BY id`, domainId);

/** The private halves, as PEM, of keys that sign or are prepared to. */
export const findPrivateKeys = (db: Database, domainId: number) =>
  db.all<{ selector: string; type: KeyType; state: KeyState; pem: string }>(
    `SELECT selector, type, state, private_key AS pem FROM dkim_key WHERE domain_id = ? AND state IN ('active', 'prepared') ORDER BY id`,
    domainId,
  );

export interface NewKey {
  selector: string;
  type: KeyType;
  privateKey: string;
  publicKey: string;
  state: KeyState;
}

export function addKey(db: Database, domainId: number, key: NewKey, now: number): void {
  db.run(
    'INSERT INTO dkim_key (id, domain_id, selector, type, private_key, public_key, state, created_at, changed_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)',
    db.nextNumber('dkim_key'),
    domainId,
    key.selector,
    key.type,
    key.privateKey,
    key.publicKey,
    key.state,
    now,
    now,
  );
}

/** Brings a key to a state; a retired one loses its private half for good. */
export function setKeyState(db: Database, id: number, state: KeyState, now: number, retireAt: number | null = null): void {
  db.run('UPDATE dkim_key SET state = ?, changed_at = ?, retire_at = ? WHERE id = ?', state, now, retireAt, id);
  if (state === 'retired') db.run(`UPDATE dkim_key SET private_key = '' WHERE id = ?`, id);
}

export const removeKey = (db: Database, id: number) => db.run('DELETE FROM dkim_key WHERE id = ?', id);

/** Keys whose time has come. */
export const dueRetirements = (db: Database, now: number) =>
  db.all<{ id: number; selector: string; domain: string; domainId: number }>(
    `SELECT k.id, k.selector, d.name AS domain, d.id AS domainId FROM dkim_key k JOIN domain d ON d.id = k.domain_id
     WHERE k.retire_at IS NOT NULL AND k.retire_at <= ? AND k.state = 'retiring'`,
    now,
  );

/** Keeps the active keys of a domain that is about to go, for mail that waits and is signed by it; without such mail, `forgetRemovedDomainKeys` takes them away. */
export const keepForWaiting = (db: Database, domain: { id: number; name: string }) =>
  db.run(
    `INSERT OR REPLACE INTO removed_domain_key SELECT ?, selector, type, private_key FROM dkim_key WHERE domain_id = ? AND state = 'active'`,
    domain.name,
    domain.id,
  );

/** The private halves, as PEM, that a domain has left for its waiting mail. */
export const findPartedKeys = (db: Database, domain: string) =>
  db.all<{ selector: string; type: KeyType; pem: string }>(
    'SELECT selector, type, private_key AS pem FROM removed_domain_key WHERE domain = ? ORDER BY selector',
    domain,
  );

/** Forgets the keys of removed domains of which nothing waits any more; tells how many. */
export async function forgetRemovedDomainKeys(db: Database): Promise<number> {
  if (db.one('SELECT 1 FROM removed_domain_key LIMIT 1') === undefined) return 0;
  // A domain that comes back and is removed once more meanwhile leaves other keys.
  const idle = await db.allSlowly<{ domain: string; selector: string; sealed: string }>(
    `SELECT k.domain, k.selector, k.private_key AS sealed FROM removed_domain_key k WHERE NOT EXISTS
       (SELECT 1 FROM recipient r CROSS JOIN journey j ON j.id = r.journey_id WHERE r.next_attempt_at IS NOT NULL AND j.signs_for = k.domain)`,
  );
  const forget = ({ domain, selector, sealed }: (typeof idle)[number]): number =>
    db.run('DELETE FROM removed_domain_key WHERE domain = ? AND selector = ? AND private_key = ?', domain, selector, sealed).changes;
  return db.commitInPieces(idle, (some) => some.reduce((sum, one) => sum + forget(one), 0));
}
