import type { Order } from '../core/vocabulary.ts';
import type { Database } from './database.ts';
import { type PageAsked, readPage } from './page.ts';

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
  db.run('INSERT INTO account (id, name, created_at) VALUES (?, ?, ?)', db.nextNumber('account'), name, now).id;
export const setCode = (db: Database, id: number, hash: string) => db.run('UPDATE account SET code_hash = ? WHERE id = ?', hash, id);
/** A password takes the place of the one-time code. Returns false when somebody was quicker with the code. */
export const takeCode = (db: Database, id: number, codeHash: string, passwordHash: string): boolean =>
  db.run('UPDATE account SET password_hash = ?, code_hash = NULL WHERE id = ? AND code_hash = ?', passwordHash, id, codeHash).changes === 1;
/** Sets a password; a one-time code that was asked for before it is good for nothing any more. */
export const setAccountPassword = (db: Database, id: number, hash: string) =>
  db.run('UPDATE account SET password_hash = ?, code_hash = NULL WHERE id = ?', hash, id);

export interface Token {
  id: number;
  name: string;
  createdAt: number;
  usedAt: number | null;
}

export const listTokens = (db: Database, accountId: number) =>
  db.all<Token>('SELECT id, name, created_at AS createdAt, used_at AS usedAt FROM api_token WHERE account_id = ? ORDER BY name', accountId);
export const findToken = (db: Database, hash: string) =>
  db.one<{ id: number; name: string; accountId: number; account: string; usedAt: number | null }>(
    'SELECT t.id, t.name, t.account_id AS accountId, a.name AS account, t.used_at AS usedAt FROM api_token t JOIN account a ON a.id = t.account_id WHERE t.hash = ?',
    hash,
  );
export const addToken = (db: Database, accountId: number, name: string, hash: string, now: number) =>
  db.run(
    'INSERT INTO api_token (id, account_id, name, hash, created_at) VALUES (?, ?, ?, ?, ?)',
    db.nextNumber('api_token'),
    accountId,
    name,
    hash,
    now,
  );
export const tokenUsed = (db: Database, id: number, now: number) => db.run('UPDATE api_token SET used_at = ? WHERE id = ?', now, id);
export const removeToken = (db: Database, accountId: number, name: string): boolean =>
  db.run('DELETE FROM api_token WHERE account_id = ? AND name = ?', accountId, name).changes > 0;

export interface WebSession {
  /** Its row, which sessions and streams know it by. */
  place: number;
  accountId: number;
  account: string;
  csrfToken: string;
  createdAt: number;
  usedAt: number;
  address: string;
  /** What the browser says that it is. */
  program: string;
}

export const addWebSession = (
  db: Database,
  session: { hash: string; accountId: number; csrfToken: string; now: number; expiresAt: number; address: string; program: string },
): void => {
  // A row number is never used again either: the next one is above all that there were.
  db.run(
    'INSERT INTO web_session (rowid, hash, account_id, csrf_token, created_at, expires_at, address, program, used_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)',
    db.nextNumber('web_session'),
    session.hash,
    session.accountId,
    session.csrfToken,
    session.now,
    session.expiresAt,
    session.address,
    session.program,
    session.now,
  );
};
const SESSION_COLUMNS =
  's.rowid AS place, s.account_id AS accountId, a.name AS account, s.csrf_token AS csrfToken, s.created_at AS createdAt, s.used_at AS usedAt, s.address, s.program';
const SESSION_FROM = 'web_session s JOIN account a ON a.id = s.account_id';
const SESSION = `SELECT ${SESSION_COLUMNS} FROM ${SESSION_FROM}`;
export const findWebSession = (db: Database, hash: string, now: number) =>
  db.one<WebSession>(`${SESSION} WHERE s.hash = ? AND s.expires_at > ?`, hash, now);
const SESSION_ORDERS: Record<Order<'sessions'>, readonly string[]> = {
  used: ['s.used_at DESC', 's.rowid DESC'],
  since: ['s.created_at DESC', 's.rowid DESC'],
  address: ['s.address', 's.rowid'],
};
export const listWebSessions = (db: Database, accountId: number, now: number, asked: PageAsked & { sort: Order<'sessions'> }) =>
  readPage<WebSession>(
    db,
    {
      columns: SESSION_COLUMNS,
      from: SESSION_FROM,
      matches: `s.account_id = @accountId AND s.expires_at > @now AND (s.address LIKE @like ESCAPE '\\' OR s.program LIKE @like ESCAPE '\\')`,
      values: { accountId, now },
      order: SESSION_ORDERS[asked.sort],
    },
    asked,
  );
export const webSessionUsed = (db: Database, place: number, now: number) =>
  db.run('UPDATE web_session SET used_at = ? WHERE rowid = ?', now, place);
export const removeWebSession = (db: Database, hash: string) => db.run('DELETE FROM web_session WHERE hash = ?', hash);
/** Ends an account's sessions but one, or a single one; tells how many. */
export const removeOtherSessions = (db: Database, accountId: number, but: number | null): number =>
  db.run('DELETE FROM web_session WHERE account_id = ? AND rowid IS NOT ?', accountId, but).changes;
export const removeSessionAt = (db: Database, accountId: number, place: number): boolean =>
  db.run('DELETE FROM web_session WHERE account_id = ? AND rowid = ?', accountId, place).changes > 0;
export const removeOldSessions = (db: Database, now: number) => db.run('DELETE FROM web_session WHERE expires_at <= ?', now);
