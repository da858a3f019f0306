import type { MoveState, MoveStep, Order } from '../core/vocabulary.ts';
import type { Database } from './database.ts';
import { type PageAsked, readPage } from './page.ts';
import type { Readable } from './read-database.ts';

/** The path by which a domain moves here, as it was seen last. */
export interface MovePlan {
  domainId: number;
  domain: string;
  begunAt: number;
  /** From where its mail comes. */
  server: string;
  /** The server that its mail is passed on to; null when it stays here. */
  oldServer: string | null;
  /** The step that matters now; null when all are behind. */
  step: MoveStep | null;
  state: MoveState;
  said: string;
  lookedAt: number | null;
  mxTtl: number | null;
  heldUntil: number | null;
  hereSince: number | null;
}

/** What is kept of a step. */
export interface MoveStepRow {
  step: MoveStep;
  transferId: number | null;
  isSkipped: boolean;
  /** What was made or sent: an address, and for a sheet its journey. */
  made: { address: string; journey?: string }[];
}

const COLUMNS = `m.domain_id AS domainId, d.name AS domain, m.begun_at AS begunAt, m.server, d.old_server AS oldServer, m.step, m.state, m.said,
  m.looked_at AS lookedAt, m.mx_ttl AS mxTtl, m.held_until AS heldUntil, m.here_since AS hereSince`;
const FROM = 'move_plan m JOIN domain d ON d.id = m.domain_id';

export const findMovePlan = (db: Readable, domainId: number) =>
  db.one<MovePlan>(`SELECT ${COLUMNS} FROM ${FROM} WHERE m.domain_id = ?`, domainId);
export const allMovePlans = (db: Readable) => db.all<MovePlan>(`SELECT ${COLUMNS} FROM ${FROM} ORDER BY m.begun_at`);
export const askedOfMove = (db: Readable, domainId: number) =>
  db.one<{ asked: string }>('SELECT asked FROM move_plan WHERE domain_id = ?', domainId)?.asked;

const ORDERS: Record<Order<'movePlans'>, readonly string[]> = { since: ['m.begun_at DESC', 'd.name'], domain: ['d.name'] };
export const pageOfMovePlans = (db: Database, order: Order<'movePlans'>, asked: PageAsked) =>
  readPage<MovePlan>(
    db,
    {
      columns: COLUMNS,
      from: FROM,
      matches: "(d.name LIKE @like ESCAPE '\\' OR m.server LIKE @like ESCAPE '\\')",
      values: {},
      order: ORDERS[order],
    },
    asked,
  );

export const addMovePlan = (db: Database, one: { domainId: number; begunAt: number; server: string; asked: string }) =>
  db.run(
    "INSERT INTO move_plan (domain_id, begun_at, server, asked, state, said) VALUES (?, ?, ?, ?, 'next', '')",
    one.domainId,
    one.begunAt,
    one.server,
    one.asked,
  );
export const keepAskedOfMove = (db: Database, domainId: number, asked: string) =>
  db.run('UPDATE move_plan SET asked = ? WHERE domain_id = ?', asked, domainId);
export const removeMovePlan = (db: Database, domainId: number) => db.run('DELETE FROM move_plan WHERE domain_id = ?', domainId);

/** How it stands, as of now. */
export const noteMoveState = (db: Database, domainId: number, now: Pick<MovePlan, 'step' | 'state' | 'said'>) =>
  db.run('UPDATE move_plan SET step = ?, state = ?, said = ? WHERE domain_id = ?', now.step, now.state, now.said, domainId);
/** What was seen of the MX records. */
export const noteMxLook = (db: Database, domainId: number, seen: { at: number; ttl: number | null; heldUntil: number | null }) =>
  db.run('UPDATE move_plan SET looked_at = ?, mx_ttl = ?, held_until = ? WHERE domain_id = ?', seen.at, seen.ttl, seen.heldUntil, domainId);
export const noteHereSince = (db: Database, domainId: number, at: number | null) =>
  db.run('UPDATE move_plan SET here_since = ? WHERE domain_id = ?', at, domainId);

export const listMoveSteps = (db: Readable, domainId: number): MoveStepRow[] =>
  db
    .all<Omit<MoveStepRow, 'made' | 'isSkipped'> & { made: string; isSkipped: 0 | 1 }>(
      'SELECT step, transfer_id AS transferId, is_skipped AS isSkipped, made FROM move_step WHERE domain_id = ?',
      domainId,
    )
    .map((row) => ({ ...row, isSkipped: row.isSkipped === 1, made: JSON.parse(row.made) as MoveStepRow['made'] }));
export const keepMoveStep = (db: Database, domainId: number, { step, transferId, isSkipped, made }: MoveStepRow) =>
  db.run(
    `INSERT INTO move_step (domain_id, step, transfer_id, is_skipped, made) VALUES (?, ?, ?, ?, ?)
     ON CONFLICT DO UPDATE SET transfer_id = excluded.transfer_id, is_skipped = excluded.is_skipped, made = excluded.made`,
    domainId,
    step,
    transferId,
    Number(isSkipped),
    JSON.stringify(made),
  );
