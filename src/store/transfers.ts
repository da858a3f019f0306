import type { Order, TransferKind, TransferState } from '../core/vocabulary.ts';
import type { Database } from './database.ts';
import { type PageAsked, readPage } from './page.ts';
import type { Readable } from './read-database.ts';

/** How far it is, in messages. */
interface Carried {
  done: number;
  total: number;
  taken: number;
  known: number;
  leftOut: number;
  octets: number;
}

/** Mail that was carried from somewhere to somewhere; its figures are those of all its mailboxes. */
export interface Transfer extends Carried {
  id: number;
  kind: TransferKind;
  subject: string;
  place: string;
  startedAt: number;
  endedAt: number | null;
  state: TransferState;
  outcome: string;
  mailboxes: number;
}

export interface TransferMailbox extends Carried {
  part: number;
  address: string;
  /** The folder in work. */
  folder: string;
  isOver: boolean;
  fault: string | null;
}

export interface LeftOut {
  address: string;
  folder: string;
  what: string;
  why: string;
}

/** So many transfers are kept, and of each so many that were left out. */
const MOST_KEPT = 500;
export const MOST_LEFT_OUT = 1000;

const SUM = (column: string): string => `coalesce((SELECT sum(${column}) FROM transfer_mailbox p WHERE p.transfer_id = t.id), 0)`;
const COLUMNS = `t.id, t.kind, t.subject, t.place, t.started_at AS startedAt, t.ended_at AS endedAt, t.state, t.outcome,
  (SELECT count(*) FROM transfer_mailbox p WHERE p.transfer_id = t.id) AS mailboxes, ${SUM('done')} AS done, ${SUM('total')} AS total,
  ${SUM('taken')} AS taken, ${SUM('known')} AS known, ${SUM('left_out')} AS leftOut, ${SUM('octets')} AS octets`;

export function addTransfer(db: Database, one: Pick<Transfer, 'kind' | 'subject' | 'place' | 'startedAt'> & { asked: string }): number {
  const id = db.nextNumber('transfer');
  db.run(
    "INSERT INTO transfer (id, kind, subject, place, asked, started_at, state) VALUES (?, ?, ?, ?, ?, ?, 'under-way')",
    id,
    one.kind,
    one.subject,
    one.place,
    one.asked,
    one.startedAt,
  );
  db.run("DELETE FROM transfer WHERE id <= ? AND state <> 'under-way'", id - MOST_KEPT);
  return id;
}

/** Begins one again that came to no good end; what was left out is found out anew. */
export function beginAgain(db: Database, id: number): void {
  db.run("UPDATE transfer SET state = 'under-way', ended_at = NULL, outcome = '' WHERE id = ?", id);
  db.run('DELETE FROM transfer_mailbox WHERE transfer_id = ?', id);
  db.run('DELETE FROM transfer_left_out WHERE transfer_id = ?', id);
}

export const endTransfer = (db: Database, id: number, end: { at: number; state: TransferState; outcome: string }): void => {
  db.run('UPDATE transfer SET ended_at = ?, state = ?, outcome = ? WHERE id = ?', end.at, end.state, end.outcome, id);
};

const CUT_OFF = 'The service was stopped; copied mail stays, and the transfer can be resumed.';

/** What was under way when the service stopped waits for somebody to go on with it; returns their numbers. */
export const stopBrokenTransfers = (db: Database, at: number): number[] => {
  const broken = db.all<{ id: number }>("SELECT id FROM transfer WHERE state = 'under-way' ORDER BY id").map((one) => one.id);
  db.run("UPDATE transfer SET ended_at = ?, state = 'stopped', outcome = ? WHERE state = 'under-way'", at, CUT_OFF);
  return broken;
};

/** Those that a stop of the service cut off since then, and nobody has gone on with. */
export const listCutOff = (db: Readable, since: number) =>
  db.all<Pick<Transfer, 'id' | 'subject'>>(
    "SELECT id, subject FROM transfer WHERE state = 'stopped' AND outcome = ? AND ended_at > ? ORDER BY id DESC",
    CUT_OFF,
    since,
  );

export const findTransfer = (db: Readable, id: number) => db.one<Transfer>(`SELECT ${COLUMNS} FROM transfer t WHERE t.id = ?`, id);
export const askedOf = (db: Readable, id: number) => db.one<{ asked: string }>('SELECT asked FROM transfer WHERE id = ?', id)?.asked;

const ORDERS: Record<Order<'transfers'>, readonly string[]> = {
  at: ['t.id DESC'],
  subject: ['t.subject', 't.id DESC'],
  state: ['t.state DESC', 't.id DESC'],
};
export const pageOfTransfers = (db: Database, order: Order<'transfers'>, asked: PageAsked) =>
  readPage<Transfer>(
    db,
    {
      columns: COLUMNS,
      from: 'transfer t',
      matches: `(t.kind LIKE @like ESCAPE '\\' OR t.subject LIKE @like ESCAPE '\\' OR t.place LIKE @like ESCAPE '\\'
        OR EXISTS (SELECT 1 FROM transfer_mailbox p WHERE p.transfer_id = t.id AND p.address LIKE @like ESCAPE '\\'))`,
      values: {},
      order: ORDERS[order],
    },
    asked,
  );

type MailboxRow = Omit<TransferMailbox, 'isOver'> & { isOver: 0 | 1 };
export const listTransferMailboxes = (db: Readable, id: number): TransferMailbox[] =>
  db
    .all<MailboxRow>(
      `SELECT part, address, folder, done, total, taken, known, left_out AS leftOut, octets, is_over AS isOver, fault
       FROM transfer_mailbox WHERE transfer_id = ? ORDER BY fault IS NULL, part`,
      id,
    )
    .map((row) => ({ ...row, isOver: row.isOver === 1 }));

export const keepTransferMailbox = (db: Database, id: number, one: TransferMailbox): void => {
  db.run(
    `INSERT INTO transfer_mailbox (transfer_id, part, address, folder, done, total, taken, known, left_out, octets, is_over, fault)
     VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
     ON CONFLICT DO UPDATE SET folder = excluded.folder, done = excluded.done, total = excluded.total, taken = excluded.taken, known = excluded.known,
       left_out = excluded.left_out, octets = excluded.octets, is_over = excluded.is_over, fault = excluded.fault`,
    id,
    one.part,
    one.address,
    one.folder,
    one.done,
    one.total,
    one.taken,
    one.known,
    one.leftOut,
    one.octets,
    Number(one.isOver),
    one.fault,
  );
};

export const listLeftOut = (db: Readable, id: number): LeftOut[] =>
  db.all<LeftOut>('SELECT address, folder, what, why FROM transfer_left_out WHERE transfer_id = ? ORDER BY number', id);
export const addLeftOut = (db: Database, id: number, number: number, one: LeftOut): void => {
  db.run(
    'INSERT OR IGNORE INTO transfer_left_out (transfer_id, number, address, folder, what, why) VALUES (?, ?, ?, ?, ?, ?)',
    id,
    number,
    one.address,
    one.folder,
    one.what,
    one.why,
  );
};

/** Which of these keys were taken into a mailbox before. */
export const takenKeys = (db: Readable, mailboxId: number, keys: readonly string[]): Set<string> =>
  new Set(
    db
      .all<{ key: string }>(
        'SELECT key FROM taken_message WHERE mailbox_id = ? AND key IN (SELECT value FROM json_each(?))',
        mailboxId,
        JSON.stringify(keys),
      )
      .map((one) => one.key),
  );
/** `place`: where it lies now; null where it was here already. */
export const noteTaken = (db: Database, mailboxId: number, key: string, place: { folderId: number; uid: number; modseq: number } | null) =>
  db.run(
    'INSERT OR IGNORE INTO taken_message (mailbox_id, key, folder_id, uid, modseq) VALUES (?, ?, ?, ?, ?)',
    mailboxId,
    key,
    place?.folderId ?? null,
    place?.uid ?? null,
    place?.modseq ?? null,
  );

/** A message that was taken, as it is now. */
export interface Untouched {
  key: string;
  folderId: number;
  uid: number;
  modseq: number;
  flags: number;
  keywords: string;
}
/** Which of these messages are as they were left by what brought them: nobody here has marked, moved or removed them. */
export const untouchedOf = (db: Readable, mailboxId: number, keys: readonly string[]) =>
  db.all<Untouched>(
    `SELECT t.key, t.folder_id AS folderId, t.uid, m.modseq, m.flags, m.keywords FROM taken_message t
     JOIN message m ON m.folder_id = t.folder_id AND m.uid = t.uid AND m.modseq = t.modseq
     WHERE t.mailbox_id = ? AND t.key IN (SELECT value FROM json_each(?))`,
    mailboxId,
    JSON.stringify(keys),
  );
export const noteFollowed = (db: Database, mailboxId: number, keys: readonly string[], modseq: number) =>
  db.run(
    'UPDATE taken_message SET modseq = ? WHERE mailbox_id = ? AND key IN (SELECT value FROM json_each(?))',
    modseq,
    mailboxId,
    JSON.stringify(keys),
  );

/** Which of these texts lie in a mailbox, in any folder. */
export const textsThere = (db: Readable, mailboxId: number, files: readonly string[]): Set<string> =>
  new Set(
    db
      .all<{ file: string }>(
        `SELECT DISTINCT m.file FROM json_each(?) w CROSS JOIN message m INDEXED BY message_file ON m.file = w.value
         WHERE m.folder_id IN (SELECT id FROM folder WHERE mailbox_id = ?)`,
        JSON.stringify(files),
        mailboxId,
      )
      .map((one) => one.file),
  );
/** How often a text lies in a folder. */
export const timesThere = (db: Readable, folderId: number, files: readonly string[]): Map<string, number> =>
  new Map(
    db
      .all<{ file: string; times: number }>(
        'SELECT m.file, count(*) AS times FROM json_each(?) w CROSS JOIN message m INDEXED BY message_file ON m.file = w.value WHERE m.folder_id = ? GROUP BY m.file',
        JSON.stringify(files),
        folderId,
      )
      .map((one) => [one.file, one.times]),
  );
