import type { MessageFinding, MessageScore } from '../core/trial/finding.ts';
import type { Order } from '../core/vocabulary.ts';
import type { Database } from './database.ts';
import { type Page, type PageAsked, readPage } from './page.ts';

/** What is known of a message beside its text, as it is kept until it is scored again. */
export interface TrialArrival {
  /** Whether it was submitted here: then it is scored as it would leave. */
  isLeaving: boolean;
  client: string;
  greeting: string;
  tls: boolean;
  /** Who signs it when it leaves. */
  signsFor: string | null;
}

export interface Trial {
  id: number;
  /** Before the @ of the host; null for a sample. */
  localPart: string | null;
  /** The domain that a sample is of. */
  domain: string | null;
  madeAt: number;
  expiresAt: number;
  arrivedAt: number | null;
  journeyId: string | null;
  sender: string | null;
  subject: string | null;
  file: string | null;
  size: number | null;
  arrival: TrialArrival | null;
}

export interface KeptScore extends MessageScore {
  at: number;
}

/** A trial with what its message is worth. */
export interface TrialRow extends Omit<Trial, 'arrival' | 'file'> {
  scoredAt: number | null;
  points: number | null;
  outOf: number | null;
}

const COLUMNS = `t.id, t.local_part AS localPart, d.name AS domain, t.made_at AS madeAt, t.expires_at AS expiresAt, t.arrived_at AS arrivedAt,
  t.journey_id AS journeyId, t.sender, t.subject, t.size`;
const FROM = 'trial t LEFT JOIN domain d ON d.id = t.domain_id';
/** Scores of one message that are kept: the newest. */
const MOST_SCORES = 20;

type Row = Omit<Trial, 'arrival'> & { arrival: string | null };
const read = (row: Row): Trial => ({ ...row, arrival: row.arrival === null ? null : JSON.parse(row.arrival) });

export function addTrial(db: Database, localPart: string, madeAt: number, expiresAt: number): number {
  const id = db.nextNumber('trial');
  db.run('INSERT INTO trial (id, local_part, made_at, expires_at) VALUES (?, ?, ?, ?)', id, localPart, madeAt, expiresAt);
  return id;
}

export function addSample(db: Database, sample: { domainId: number; journeyId: string; sender: string; size: number; at: number }): number {
  const id = db.nextNumber('trial');
  db.run(
    'INSERT INTO trial (id, domain_id, made_at, expires_at, arrived_at, journey_id, sender, size) VALUES (?, ?, ?, ?, ?, ?, ?, ?)',
    id,
    sample.domainId,
    sample.at,
    sample.at,
    sample.at,
    sample.journeyId,
    sample.sender,
    sample.size,
  );
  return id;
}

export const findTrial = (db: Database, id: number): Trial | undefined =>
  db.all<Row>(`SELECT ${COLUMNS}, t.file, t.arrival FROM ${FROM} WHERE t.id = ?`, id).map(read)[0];

/** Whether an address of that name takes a message now, has had its one, or never was. */
export function lookUpTrial(db: Database, localPart: string, now: number): { kind: 'open'; id: number } | { kind: 'over' } | null {
  const row = db.one<{ id: number; expiresAt: number; arrivedAt: number | null }>(
    'SELECT id, expires_at AS expiresAt, arrived_at AS arrivedAt FROM trial WHERE local_part = ?',
    localPart,
  );
  if (!row) return null;
  return row.arrivedAt === null && now < row.expiresAt ? { kind: 'open', id: row.id } : { kind: 'over' };
}

/** The message has come; false where another one came first. */
export const takeTrial = (
  db: Database,
  id: number,
  {
    file,
    size,
    journeyId,
    sender,
    subject,
    at,
    arrival,
  }: { file: string; size: number; journeyId: string; sender: string; subject: string; at: number; arrival: TrialArrival },
): boolean =>
  db.run(
    'UPDATE trial SET arrived_at = ?, journey_id = ?, sender = ?, subject = ?, file = ?, size = ?, arrival = ? WHERE id = ? AND arrived_at IS NULL',
    at,
    journeyId,
    sender,
    subject,
    file,
    size,
    JSON.stringify(arrival),
    id,
  ).changes === 1;

/** Messages that have come and have no score yet. */
export const unscoredTrials = (db: Database): number[] =>
  db
    .all<{ id: number }>(
      'SELECT id FROM trial t WHERE file IS NOT NULL AND NOT EXISTS (SELECT 1 FROM trial_score WHERE trial_id = t.id) ORDER BY id',
    )
    .map((row) => row.id);

/** False where the trial is gone. */
export function addScore(db: Database, id: number, at: number, { points, outOf, findings }: MessageScore): boolean {
  if (!db.one('SELECT 1 FROM trial WHERE id = ?', id)) return false;
  db.run(
    'INSERT OR REPLACE INTO trial_score (trial_id, at, points, out_of, findings) VALUES (?, ?, ?, ?, ?)',
    id,
    at,
    points,
    outOf,
    JSON.stringify(findings),
  );
  db.run(
    'DELETE FROM trial_score WHERE trial_id = ? AND at NOT IN (SELECT at FROM trial_score WHERE trial_id = ? ORDER BY at DESC LIMIT ?)',
    id,
    id,
    MOST_SCORES,
  );
  return true;
}

/** The newest first. */
export const scoresOf = (db: Database, id: number, most = MOST_SCORES): KeptScore[] =>
  db
    .all<Omit<KeptScore, 'findings'> & { findings: string }>(
      'SELECT at, points, out_of AS outOf, findings FROM trial_score WHERE trial_id = ? ORDER BY at DESC LIMIT ?',
      id,
      most,
    )
    .map((row) => ({ ...row, findings: JSON.parse(row.findings) as MessageFinding[] }));

const ORDERS: Record<Order<'trials'>, readonly string[]> = {
  at: ['coalesce(t.arrived_at, t.made_at) DESC', 't.id DESC'],
  sender: ['t.sender', 't.id DESC'],
  points: ['coalesce(s.points, 101)', 't.id DESC'],
};

export const pageOfTrials = (db: Database, order: Order<'trials'>, asked: PageAsked): Page<TrialRow> =>
  readPage<TrialRow>(
    db,
    {
      columns: `${COLUMNS}, s.at AS scoredAt, s.points, s.out_of AS outOf`,
      from: `${FROM} LEFT JOIN trial_score s ON s.trial_id = t.id AND s.at = (SELECT max(at) FROM trial_score WHERE trial_id = t.id)`,
      matches: `(coalesce(t.local_part, '') LIKE @like ESCAPE '\\' OR coalesce(d.name, '') LIKE @like ESCAPE '\\'
        OR coalesce(t.sender, '') LIKE @like ESCAPE '\\' OR coalesce(t.subject, '') LIKE @like ESCAPE '\\')`,
      values: {},
      order: ORDERS[order],
    },
    asked,
  );

export const countOpenTrials = (db: Database, now: number): number =>
  db.one<{ count: number }>('SELECT count(*) AS count FROM trial WHERE arrived_at IS NULL AND domain_id IS NULL AND expires_at > ?', now)
    ?.count ?? 0;

export const removeTrial = (db: Database, id: number): boolean => db.run('DELETE FROM trial WHERE id = ?', id).changes === 1;

/** Takes away addresses that nothing came to, and messages that came before a time; returns how many. */
export async function removeOldTrials(db: Database, now: number, cameBefore: number, most: number): Promise<number> {
  const isOld = '((arrived_at IS NULL AND expires_at < ?) OR arrived_at < ?)';
  const old = await db.allSlowly<{ id: number }>(`SELECT id FROM trial WHERE ${isOld} LIMIT ?`, now, cameBefore, most);
  const ids = (some: readonly { id: number }[]): string => JSON.stringify(some.map((one) => one.id));
  // A message may have come in the last moment.
  const remove = `DELETE FROM trial WHERE id IN (SELECT value FROM json_each(?)) AND ${isOld}`;
  return db.commitInPieces(old, (some) => db.run(remove, ids(some), now, cameBefore).changes);
}

/** When the last sample of a domain was taken; null where none is kept. */
export const lastSample = (db: Database, domainId: number): number | null =>
  db.one<{ at: number | null }>('SELECT max(arrived_at) AS at FROM trial WHERE domain_id = ?', domainId)?.at ?? null;
