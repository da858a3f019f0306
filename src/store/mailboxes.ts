import type { Order } from '../core/vocabulary.ts';
import type { Database } from './database.ts';
import { addUsualFolders } from './folders.ts';
import { type Page, type PageAsked, readPage } from './page.ts';
import type { Readable } from './read-database.ts';

export interface Mailbox {
  id: number;
  address: string;
  local: string;
  domain: string;
  domainId: number;
  /** Whose it is, in words; null where nobody has said. */
  name: string | null;
  quotaBytes: number;
  usedBytes: number;
  /** How many messages it may have; null for any number. */
  quotaMessages: number | null;
  messages: number;
  /** Whether it is nobody's own, and opened by its members. */
  shared: boolean;
  /** Whether only app passwords sign in. */
  appPasswordsOnly: boolean;
  /** Whether POP3 shows junk, too, marked as such. */
  pop3Junk: boolean;
  /** Where copies of what it gets are forwarded. */
  copyTo: string[];
  createdAt: number;
}

const COPY_TO = '(SELECT json_group_array(c.address) FROM mailbox_copy c WHERE c.mailbox_id = m.id)';
const MAILBOX_COLUMNS = `m.id, m.local || '@' || d.name AS address, m.local, d.name AS domain, d.id AS domainId, m.name, m.is_shared AS shared, m.quota_bytes AS quotaBytes, m.used_bytes AS usedBytes,
  m.quota_messages AS quotaMessages, m.used_messages AS messages, m.app_passwords_only AS appPasswordsOnly, m.pop3_junk AS pop3Junk, m.created_at AS createdAt,
  ${COPY_TO} AS copyTo`;
const MAILBOX_FROM = 'mailbox m JOIN domain d ON d.id = m.domain_id';
const MAILBOX = `SELECT ${MAILBOX_COLUMNS} FROM ${MAILBOX_FROM}`;

/** Hardly a mailbox has any. */
const readCopies = (text: string): string[] => (text === '[]' ? [] : (JSON.parse(text) as string[]));

type Flag = 'appPasswordsOnly' | 'pop3Junk' | 'shared';
type Row = Omit<Mailbox, Flag | 'copyTo'> & Record<Flag, 0 | 1> & { copyTo: string };
const fromRow = (row: Row): Mailbox => ({
  ...row,
  appPasswordsOnly: row.appPasswordsOnly === 1,
  pop3Junk: row.pop3Junk === 1,
  copyTo: readCopies(row.copyTo),
  shared: row.shared === 1,
});

export const listMailboxes = (db: Database, domainId: number) =>
  db.all<Row>(`${MAILBOX} WHERE d.id = ? ORDER BY m.local`, domainId).map(fromRow);
const MAILBOX_ORDERS: Record<Order<'mailboxes'>, readonly string[]> = {
  address: ['m.local'],
  messages: ['m.used_messages DESC', 'm.local'],
  storage: ['m.used_bytes DESC', 'm.local'],
  since: ['m.created_at DESC', 'm.local'],
};
export function pageOfMailboxes(db: Database, domainId: number, asked: PageAsked & { sort: Order<'mailboxes'> }): Page<Mailbox> {
  const page = readPage<Row>(
    db,
    {
      columns: MAILBOX_COLUMNS,
      from: MAILBOX_FROM,
      matches: `d.id = @domainId AND (m.local || '@' || d.name LIKE @like ESCAPE '\\' OR m.name LIKE @like ESCAPE '\\')`,
      values: { domainId },
      order: MAILBOX_ORDERS[asked.sort],
    },
    asked,
  );
  return { ...page, rows: page.rows.map(fromRow) };
}
export function findMailbox(db: Database, local: string, domain: string): Mailbox | undefined {
  const row = db.one<Row>(`${MAILBOX} WHERE m.local = ? AND d.name = ?`, local, domain);
  return row && fromRow(row);
}

/** Which of these local parts of a domain are mailboxes. */
export const mailboxesAmong = (db: Readable, domainId: number, locals: readonly string[]): Set<string> =>
  new Set(
    db
      .all<{ local: string }>(
        'SELECT local FROM mailbox WHERE domain_id = ? AND local IN (SELECT value FROM json_each(?))',
        domainId,
        JSON.stringify(locals),
      )
      .map((one) => one.local),
  );

/** What routing and signing in need, in one small look-up; `octets` is the size of what is to find room, as far as it is known. */
export const lookUpMailbox = (db: Database, local: string, domain: string, octets = 0) =>
  db.one<{
    id: number;
    domainId: number;
    full: 'mailbox' | 'domain' | null;
    passwordHash: string;
    appPasswordsOnly: 0 | 1;
    copyTo: string;
  }>(
    `SELECT m.id, m.domain_id AS domainId, m.password_hash AS passwordHash,
       CASE WHEN m.used_bytes >= m.quota_bytes OR m.used_bytes + @octets > m.quota_bytes OR m.used_messages >= m.quota_messages THEN 'mailbox'
         WHEN (d.storage_bytes IS NOT NULL OR d.storage_messages IS NOT NULL) AND
           EXISTS (SELECT 1 FROM domain_use u WHERE u.domain_id = d.id AND (u.bytes >= d.storage_bytes OR u.bytes + @octets > d.storage_bytes OR u.messages >= d.storage_messages)) THEN 'domain'
       END AS full,
       m.app_passwords_only AS appPasswordsOnly, ${COPY_TO} AS copyTo
     FROM mailbox m JOIN domain d ON d.id = m.domain_id WHERE m.local = @local AND d.name = @domain`,
    { local, domain, octets },
  );

/** Mailboxes of any domain with that name before the @. */
export const mailboxesCalled = (db: Database, local: string, most: number) =>
  db.all<{ address: string; domain: string }>(
    `SELECT m.local || '@' || d.name AS address, d.name AS domain FROM mailbox m JOIN domain d ON d.id = m.domain_id WHERE m.local = ? LIMIT ?`,
    local,
    most,
  );

export const mailboxExists = (db: Database, id: number): boolean => db.one('SELECT 1 FROM mailbox WHERE id = ?', id) !== undefined;

export function addMailbox(
  db: Database,
  mailbox: {
    domainId: number;
    local: string;
    name?: string | null;
    passwordHash: string;
    quotaBytes: number;
    quotaMessages?: number | null;
    isShared?: boolean;
  },
  now: number,
): number {
  const { id } = db.run(
    'INSERT INTO kept_mailbox (id, domain_id, local, name, password_hash, quota_bytes, quota_messages, is_shared, created_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)',
    db.nextNumber('mailbox'),
    mailbox.domainId,
    mailbox.local,
    mailbox.name ?? null,
    mailbox.passwordHash,
    mailbox.quotaBytes,
    mailbox.quotaMessages ?? null,
    Number(mailbox.isShared ?? false),
    now,
  );
  addUsualFolders(db, id);
  return id;
}

export const addressOfMailbox = (db: Readable, id: number): string | undefined =>
  db.one<{ address: string }>(
    "SELECT m.local || '@' || d.name AS address FROM mailbox m JOIN domain d ON d.id = m.domain_id WHERE m.id = ?",
    id,
  )?.address;

/** How many mailboxes a domain has, and may have by its plan. */
export const roomForMailboxes = (db: Readable, domain: string) =>
  db.one<{ has: number; most: number; plan: string }>(
    `SELECT (SELECT count(*) FROM mailbox m WHERE m.domain_id = d.id) AS has, p.most_mailboxes AS most, p.name AS plan
     FROM domain d JOIN plan p ON p.id = d.plan_id WHERE d.name = ?`,
    domain,
  );

export const setPassword = (db: Database, id: number, hash: string) =>
  db.run('UPDATE kept_mailbox SET password_hash = ? WHERE id = ?', hash, id);
export const setAppPasswordsOnly = (db: Database, id: number, isOn: boolean) =>
  db.run('UPDATE kept_mailbox SET app_passwords_only = ? WHERE id = ?', Number(isOn), id);
export const setQuota = (db: Database, id: number, bytes: number) =>
  db.run('UPDATE kept_mailbox SET quota_bytes = ? WHERE id = ?', bytes, id);
export const setName = (db: Database, id: number, name: string | null) => db.run('UPDATE kept_mailbox SET name = ? WHERE id = ?', name, id);
export const setPop3Junk = (db: Database, id: number, isShown: boolean) =>
  db.run('UPDATE kept_mailbox SET pop3_junk = ? WHERE id = ?', Number(isShown), id);
export const setQuotaMessages = (db: Database, id: number, messages: number | null) =>
  db.run('UPDATE kept_mailbox SET quota_messages = ? WHERE id = ?', messages, id);
export const removeMailbox = (db: Database, id: number) => db.run('DELETE FROM kept_mailbox WHERE id = ?', id);

export interface Alias {
  id: number;
  address: string;
  local: string;
  domain: string;
  targets: string[];
}

const ALIAS_COLUMNS = `a.id, a.local || '@' || d.name AS address, a.local, d.name AS domain,
  (SELECT json_group_array(t.address) FROM alias_target t WHERE t.alias_id = a.id) AS targets`;
const ALIAS_FROM = 'alias a JOIN domain d ON d.id = a.domain_id';
const ALIAS = `SELECT ${ALIAS_COLUMNS} FROM ${ALIAS_FROM}`;
type AliasRow = Omit<Alias, 'targets'> & { targets: string };
const readAlias = (row: AliasRow): Alias => ({ ...row, targets: JSON.parse(row.targets) });

export const listAliases = (db: Database, domainId: number): Alias[] =>
  db.all<AliasRow>(`${ALIAS} WHERE d.id = ? ORDER BY a.local`, domainId).map(readAlias);

const ALIAS_ORDERS: Record<Order<'aliases'>, readonly string[]> = { address: ['a.local'], since: ['a.created_at DESC', 'a.local'] };
export function pageOfAliases(db: Database, domainId: number, asked: PageAsked & { sort: Order<'aliases'> }): Page<Alias> {
  const page = readPage<AliasRow>(
    db,
    {
      columns: ALIAS_COLUMNS,
      from: ALIAS_FROM,
      matches: `d.id = @domainId AND (a.local || '@' || d.name LIKE @like ESCAPE '\\'
        OR EXISTS (SELECT 1 FROM alias_target t WHERE t.alias_id = a.id AND t.address LIKE @like ESCAPE '\\'))`,
      values: { domainId },
      order: ALIAS_ORDERS[asked.sort],
    },
    asked,
  );
  return { ...page, rows: page.rows.map(readAlias) };
}

export function findAlias(db: Database, local: string, domain: string): Alias | undefined {
  const row = db.one<AliasRow>(`${ALIAS} WHERE a.local = ? AND d.name = ?`, local, domain);
  return row && readAlias(row);
}

export function addAlias(db: Database, domainId: number, local: string, targets: readonly string[], now: number): number {
  const { id } = db.run(
    'INSERT INTO alias (id, domain_id, local, created_at) VALUES (?, ?, ?, ?)',
    db.nextNumber('alias'),
    domainId,
    local,
    now,
  );
  setTargets(db, id, targets);
  return id;
}

export function setTargets(db: Database, aliasId: number, targets: readonly string[]): void {
  db.run('DELETE FROM alias_target WHERE alias_id = ?', aliasId);
  for (const address of targets) db.run('INSERT INTO alias_target (alias_id, address) VALUES (?, ?)', aliasId, address);
}

export const removeAlias = (db: Database, id: number) => db.run('DELETE FROM alias WHERE id = ?', id);

/** Aliases outside of `domain` (null: anywhere) that lead to an address, or to any address of a domain (`@domain`). */
export function aliasesLeadingTo(db: Database, address: string): Alias[] {
  const whole = address.startsWith('@');
  return db
    .all<AliasRow>(
      `${ALIAS} WHERE a.id IN (SELECT alias_id FROM alias_target WHERE ${whole ? 'address LIKE ?' : 'address = ?'})${whole ? ' AND d.name <> ?' : ''} ORDER BY address`,
      ...(whole ? [`%${address.replace(/_/g, '\\_')}`, address.slice(1)] : [address]),
    )
    .map(readAlias);
}

/** Addresses from which this mailbox may send besides its own: the aliases that lead to it. */
export const aliasesOf = (db: Database, address: string): string[] =>
  db
    .all<{ address: string }>(
      `SELECT a.local || '@' || d.name AS address FROM alias_target t JOIN alias a ON a.id = t.alias_id JOIN domain d ON d.id = a.domain_id WHERE t.address = ?`,
      address,
    )
    .map((row) => row.address);
