import type { Database } from './database.ts';

export interface Account {
  id: number;
  name: string;
  passwordHash: string | null;
  codeHash: string | null;
}

const ACCOUNT = 'SELECT id, name, password_hash AS passwordHash, code_hash AS codeHash FROM account';

export const findAccount = (db: Database, name: string) => db.one<Account>(`${ACCOUNT} WHERE name = ?`, name);
export const countAccounts = (db: Database): number => db.one<{ n: number }>('SELECT count(*) AS n FROM account')?.n ?? 0;
export const accountsWithoutPassword = (db: Database) => db.all<Account>(`${ACCOUNT} WHERE password_hash IS NULL ORDER BY id`);
export const addAccount = (db: Database, name: string, now: number): number =>
  db.run('INSERT INTO account (name, created_at) VALUES (?, ?)', name, now).id;
export const setCode = (db: Database, id: number, hash: string) => db.run('UPDATE account SET code_hash = ? WHERE id = ?', hash, id);
/** A password takes the place of the one-time code. Returns false when somebody was quicker with the code. */
export const takeCode = (db: Database, id: number, codeHash: string, passwordHash: string): boolean =>
  db.run('UPDATE account SET password_hash = ?, code_hash = NULL WHERE id = ? AND code_hash = ?', passwordHash, id, codeHash).changes === 1;
export const setAccountPassword = (db: Database, id: number, hash: string) =>
  db.run('UPDATE account SET password_hash = ? WHERE id = ?', hash, id);

export interface Token {
  id: number;
  name: string;
  createdAt: number;
  usedAt: number | null;
}

export const listTokens = (db: Database, accountId: number) =>
  db.all<Token>('SELECT id, name, created_at AS createdAt, used_at AS usedAt FROM api_token WHERE account_id = ? ORDER BY name', accountId);
export const findToken = (db: Database, hash: string) =>
  db.one<{ id: number; accountId: number; account: string; usedAt: number | null }>(
    'SELECT t.id, t.account_id AS accountId, a.name AS account, t.used_at AS usedAt FROM api_token t JOIN account a ON a.id = t.account_id WHERE t.hash = ?',
    hash,
  );
export const addToken = (db: Database, accountId: number, name: string, hash: string, now: number) =>
  db.run('INSERT INTO api_token (account_id, name, hash, created_at) VALUES (?, ?, ?, ?)', accountId, name, hash, now);
export const tokenUsed = (db: Database, id: number, now: number) => db.run('UPDATE api_token SET used_at = ? WHERE id = ?', now, id);
export const removeToken = (db: Database, accountId: number, name: string): boolean =>
  db.run('DELETE FROM api_token WHERE account_id = ? AND name = ?', accountId, name).changes > 0;

export const addWebSession = (db: Database, session: { hash: string; accountId: number; guard: string; now: number; expiresAt: number }) =>
  db.run(
    'INSERT INTO web_session (hash, account_id, guard, created_at, expires_at) VALUES (?, ?, ?, ?, ?)',
    session.hash,
    session.accountId,
    session.guard,
    session.now,
    session.expiresAt,
  );
export const findWebSession = (db: Database, hash: string, now: number) =>
  db.one<{ accountId: number; account: string; guard: string }>(
    'SELECT s.account_id AS accountId, a.name AS account, s.guard FROM web_session s JOIN account a ON a.id = s.account_id WHERE s.hash = ? AND s.expires_at > ?',
    hash,
    now,
  );
export const removeWebSession = (db: Database, hash: string) => db.run('DELETE FROM web_session WHERE hash = ?', hash);
export const removeOldSessions = (db: Database, now: number) => db.run('DELETE FROM web_session WHERE expires_at <= ?', now);
