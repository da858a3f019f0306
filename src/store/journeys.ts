import type { Database } from './database.ts';

export type RecipientState = 'queued' | 'delivered' | 'delayed' | 'relayed' | 'failed';

export interface Journey {
  id: string;
  at: number;
  kind: 'received' | 'submitted' | 'report';
  outcome: 'accepted' | 'refused';
  sender: string | null;
  recipients: string;
  subject: string;
  size: number;
  client: string;
  /** The domain here that the message belongs to, if any. */
  domain: string | null;
  file: string | null;
}

export interface Recipient {
  id: number;
  address: string;
  domain: string;
  state: RecipientState;
  attempts: number;
  nextAttemptAt: number | null;
  reply: string | null;
  changedAt: number;
}

export interface JournalEntry {
  seq: number;
  at: number;
  event: string;
  data: Record<string, unknown>;
}

export function addJourney(db: Database, journey: Journey): void {
  db.run(
    `INSERT INTO journey (id, at, kind, outcome, sender, recipients, subject, size, client, domain, file) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
     ON CONFLICT (id) DO UPDATE SET outcome = excluded.outcome, recipients = excluded.recipients, subject = excluded.subject, size = excluded.size, file = excluded.file`,
    journey.id,
    journey.at,
    journey.kind,
    journey.outcome,
    journey.sender,
    journey.recipients,
    journey.subject,
    journey.size,
    journey.client,
    journey.domain,
    journey.file,
  );
}

export function addRecipient(
  db: Database,
  journeyId: string,
  recipient: { address: string; domain: string; state: RecipientState; nextAttemptAt: number | null; at: number },
): number {
  return db.run(
    'INSERT INTO recipient (journey_id, address, domain, state, next_attempt_at, changed_at) VALUES (?, ?, ?, ?, ?, ?)',
    journeyId,
    recipient.address,
    recipient.domain,
    recipient.state,
    recipient.nextAttemptAt,
    recipient.at,
  ).id;
}

export function addEntry(
  db: Database,
  entry: { at: number; journeyId: string | null; domain: string | null; event: string; data: object },
): void {
  db.run(
    'INSERT INTO journal (at, journey_id, domain, event, data) VALUES (?, ?, ?, ?, ?)',
    entry.at,
    entry.journeyId,
    entry.domain,
    entry.event,
    JSON.stringify(entry.data),
  );
}

export const findJourney = (db: Database, id: string) => db.one<Journey>('SELECT * FROM journey WHERE id = ?', id);

const RECIPIENT =
  'SELECT id, address, domain, state, attempts, next_attempt_at AS nextAttemptAt, reply, changed_at AS changedAt FROM recipient';
export const listRecipients = (db: Database, journeyId: string) =>
  db.all<Recipient>(`${RECIPIENT} WHERE journey_id = ? ORDER BY id`, journeyId);

export function listEntries(db: Database, journeyId: string): JournalEntry[] {
  return db
    .all<{ seq: number; at: number; event: string; data: string }>(
      'SELECT seq, at, event, data FROM journal WHERE journey_id = ? ORDER BY at, seq',
      journeyId,
    )
    .map((row) => ({ ...row, data: JSON.parse(row.data) }));
}

type JournalRow = Omit<JournalEntry, 'data'> & { data: string; journeyId: string | null; domain: string | null };

/** The newest events of a domain, or of everything. */
export function listJournal(
  db: Database,
  domain: string | null,
  limit: number,
): (JournalEntry & { journeyId: string | null; domain: string | null })[] {
  const columns = 'SELECT seq, at, event, data, journey_id AS journeyId, domain FROM journal';
  const newest = 'ORDER BY at DESC, seq DESC LIMIT ?';
  const rows =
    domain === null
      ? db.all<JournalRow>(`${columns} ${newest}`, limit)
      : db.all<JournalRow>(`${columns} WHERE domain = ? ${newest}`, domain, limit);
  return rows.map((row) => ({ ...row, data: JSON.parse(row.data) }));
}

export interface JourneyQuery {
  search: string;
  domain: string | null;
  state: RecipientState | 'refused' | null;
  before: number | null;
  limit: number;
}

export interface JourneyRow extends Omit<Journey, 'file'> {
  /** How many recipients are in each state. */
  states: Partial<Record<RecipientState, number>>;
  /** The newest reply that was not good news. */
  trouble: string | null;
}

export function listJourneys(db: Database, query: JourneyQuery): JourneyRow[] {
  const pattern = `%${query.search.replace(/[\\%_]/g, '\\$&')}%`;
  const rows = db.all<Omit<JourneyRow, 'states'> & { states: string }>(
    `SELECT id, at, kind, outcome, sender, recipients, subject, size, client, domain,
       (SELECT json_group_object(state, n) FROM (SELECT state, count(*) AS n FROM recipient r WHERE r.journey_id = j.id GROUP BY state)) AS states,
       (SELECT json_extract(e.data, '$.reply') FROM journal e WHERE e.journey_id = j.id AND e.event IN ('refused', 'failed', 'delayed')
        ORDER BY e.seq DESC LIMIT 1) AS trouble
     FROM journey j
     WHERE (? IS NULL OR at < ?) AND (? IS NULL OR domain = ?)
       AND (? = '' OR id = ? OR sender LIKE ? ESCAPE '\\' OR recipients LIKE ? ESCAPE '\\' OR subject LIKE ? ESCAPE '\\')
       AND (? IS NULL OR (? = 'refused' AND outcome = 'refused') OR EXISTS (SELECT 1 FROM recipient r WHERE r.journey_id = j.id AND r.state = ?))
     ORDER BY at DESC LIMIT ?`,
    query.before,
    query.before,
    query.domain,
    query.domain,
    query.search,
    query.search,
    pattern,
    pattern,
    pattern,
    query.state,
    query.state,
    query.state,
    query.limit,
  );
  return rows.map((row) => ({ ...row, states: JSON.parse(row.states) }));
}

/** A recipient outside that waits for an attempt, with what the attempt needs. */
export interface QueueItem extends Recipient {
  journeyId: string;
  sender: string | null;
  kind: Journey['kind'];
  file: string;
  acceptedAt: number;
  senderDomain: string | null;
}

const QUEUE = `SELECT r.id, r.address, r.domain, r.state, r.attempts, r.next_attempt_at AS nextAttemptAt, r.reply, r.changed_at AS changedAt,
  j.id AS journeyId, j.sender, j.kind, j.file, j.at AS acceptedAt, j.domain AS senderDomain FROM recipient r JOIN journey j ON j.id = r.journey_id`;

/** Due recipients, the longest waiting first, without those of some domains. */
export const listDue = (db: Database, now: number, without: readonly string[], limit: number) =>
  db.all<QueueItem>(
    `${QUEUE} WHERE r.next_attempt_at <= ? AND r.domain NOT IN (SELECT value FROM json_each(?)) ORDER BY r.next_attempt_at, r.id LIMIT ?`,
    now,
    JSON.stringify(without),
    limit,
  );
export const listQueue = (db: Database, limit: number) =>
  db.all<QueueItem>(`${QUEUE} WHERE r.next_attempt_at IS NOT NULL ORDER BY r.next_attempt_at LIMIT ?`, limit);
export const countQueue = (db: Database): number =>
  db.one<{ n: number }>('SELECT count(*) AS n FROM recipient WHERE next_attempt_at IS NOT NULL')?.n ?? 0;
/** When the next recipient that is not due yet becomes due. */
export const nextDue = (db: Database, now: number): number | null =>
  db.one<{ at: number | null }>('SELECT min(next_attempt_at) AS at FROM recipient WHERE next_attempt_at > ?', now)?.at ?? null;

export function changeRecipient(
  db: Database,
  id: number,
  change: { state: RecipientState; attempts: number; nextAttemptAt: number | null; reply: string | null; at: number },
): void {
  db.run(
    'UPDATE recipient SET state = ?, attempts = ?, next_attempt_at = ?, reply = ?, changed_at = ? WHERE id = ?',
    change.state,
    change.attempts,
    change.nextAttemptAt,
    change.reply,
    change.at,
    id,
  );
}

/** Makes the waiting recipients of a journey due at once; returns how many. */
export const hurry = (db: Database, journeyId: string, now: number): number =>
  db.run('UPDATE recipient SET next_attempt_at = ? WHERE journey_id = ? AND next_attempt_at IS NOT NULL', now, journeyId).changes;
