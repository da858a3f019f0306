import type { ScopeKind } from '../core/vocabulary.ts';
import type { Database } from './database.ts';

/** What was removed, and has charges in the ledger under its number for as long as the ledger is kept. */
export interface RemovedScope {
  kind: ScopeKind;
  id: number;
  name: string;
  /** The domain that a mailbox was of. */
  domain: string | null;
  at: number;
}

export const noteRemoved = (db: Database, { kind, id, name, domain, at }: RemovedScope) =>
  db.run('INSERT OR REPLACE INTO removed_scope (kind, id, name, domain, removed_at) VALUES (?, ?, ?, ?, ?)', kind, id, name, domain, at);
/** The one of that name that was removed last. */
export const findRemoved = (db: Database, kind: ScopeKind, name: string) =>
  db.one<RemovedScope>(
    'SELECT kind, id, name, domain, removed_at AS at FROM removed_scope WHERE kind = ? AND name = ? ORDER BY id DESC LIMIT 1',
    kind,
    name,
  );
/** It is back under its number. */
export const forgetRemovedOne = (db: Database, kind: ScopeKind, id: number) =>
  db.run('DELETE FROM removed_scope WHERE kind = ? AND id = ?', kind, id);
/** Those that were removed before the ledger's oldest charge have none left. */
export const forgetRemoved = (db: Database, before: number) => db.run('DELETE FROM removed_scope WHERE removed_at < ?', before);
