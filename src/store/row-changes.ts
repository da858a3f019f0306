import type SQLite from 'better-sqlite3';

/** Rows of which something is kept outside of the database, by number. */
export type WatchedKind =
  | 'account'
  | 'api_token'
  | 'web_session'
  | 'customer'
  | 'plan'
  | 'domain'
  | 'mailbox'
  | 'app_password'
  | 'network'
  | 'outlet'
  /** The limits of whoever; the number says nothing. */
  | 'limits'
  /** The signing keys of the domain with that number. */
  | 'keys'
  /** A pause, brake or stop of the scope with that number. */
  | 'customer-stop'
  | 'domain-stop'
  | 'mailbox-stop'
  | 'certificate'
  /** What lies in a folder, or the folder itself. */
  | 'folder';

/** What a transaction has done to a row, told after it is on disk. */
export interface RowChange {
  kind: WatchedKind;
  id: number;
  what: 'added' | 'changed' | 'gone';
}

/** Columns whose change matters to others; those that change with every message are none of them. */
const WATCHED: [table: string, kind: string, id: string, columns: string | null][] = [
  ['account', "'account'", 'id', 'password_hash'],
  ['api_token', "'api_token'", 'id', 'hash'],
  ['web_session', "'web_session'", 'rowid', 'account_id'],
  ['customer', "'customer'", 'id', 'name'],
  ['plan', "'plan'", 'id', null],
  ['domain', "'domain'", 'id', 'name, customer_id, plan_id, role, twin_of'],
  ['kept_mailbox', "'mailbox'", 'id', 'password_hash, domain_id'],
  ['app_password', "'app_password'", 'id', 'hash'],
  ['network', "'network'", 'id', null],
  ['outlet', "'outlet'", 'id', null],
  ['sending_limit', "'limits'", 'scope_id', null],
  ['limit_choice', "'limits'", 'scope_id', null],
  ['limit_raise', "'limits'", 'scope_id', null],
  ['dkim_key', "'keys'", 'domain_id', null],
  ['folder', "'folder'", 'id', 'highest_modseq'],
  ['certificate', "'certificate'", 'id', null],
  ['stop', "ROW.scope || '-stop'", 'scope_id', null],
];

/**
 * Notes what happens to watched rows, whoever does it and through whatever cascade: by triggers of this connection, which call back. So nobody who
 * changes a row has to know who keeps something about it.
 */
export function watchRows(sqlite: SQLite.Database, note: (change: RowChange) => void): void {
  sqlite.function('note_row', { varargs: false, directOnly: false }, (kind: unknown, id: unknown, what: unknown) => {
    note({ kind: kind as WatchedKind, id: Number(id), what: what as RowChange['what'] });
    return null;
  });
  for (const [table, kind, id, columns] of WATCHED)
    for (const [event, row, what] of [
      ['INSERT', 'new', 'added'],
      [columns === null ? 'UPDATE' : `UPDATE OF ${columns}`, 'new', 'changed'],
      ['DELETE', 'old', 'gone'],
    ] as const)
      sqlite.exec(
        `CREATE TEMP TRIGGER noted_${table}_${what} AFTER ${event} ON main.${table} BEGIN SELECT note_row(${kind.replace('ROW', row)}, ${row}.${id}, '${what}'); END`,
      );
  // A mailbox that is removed is kept for a while, and is gone for everybody all the same.
  for (const [when, what] of [
    ['new.removed_at IS NOT NULL', 'gone'],
    ['new.removed_at IS NULL', 'added'],
  ] as const)
    sqlite.exec(
      `CREATE TEMP TRIGGER noted_removed_mailbox_${what} AFTER UPDATE OF removed_at ON main.kept_mailbox WHEN ${when}
       BEGIN SELECT note_row('mailbox', new.id, '${what}'); END`,
    );
}

/** Tables of which whole answers are kept, and columns that none of those has: checks write them all day. */
const FOLLOWED: Record<string, readonly string[]> = {
  domain: ['dmarc_seen', 'dmarc_seen_since'],
  customer: [],
  outlet: [],
  dns_zone: [],
};

/** Tells of each change of rows that kept answers are made of, whoever does it and through whatever cascade. */
export function followRows(sqlite: SQLite.Database, changed: () => void): void {
  sqlite.function('answers_changed', { varargs: false, directOnly: false }, () => {
    changed();
    return null;
  });
  for (const [table, unrelated] of Object.entries(FOLLOWED)) {
    const columns = (sqlite.pragma(`table_info(${table})`) as { name: string }[]).map((one) => one.name);
    const related = columns.filter((name) => !unrelated.includes(name)).join(', ');
    for (const [name, event] of [
      ['added', 'INSERT'],
      ['changed', `UPDATE OF ${related}`],
      ['gone', 'DELETE'],
    ])
      sqlite.exec(`CREATE TEMP TRIGGER followed_${table}_${name} AFTER ${event} ON main.${table} BEGIN SELECT answers_changed(); END`);
  }
}
