import { EVENTS } from '../core/journal/event-versions.ts';
import { type EventOf, FORMER_NAMES } from '../core/journal/events.ts';
import type { Held, RecipientState } from '../core/vocabulary.ts';
import type { Actor, Database } from './database.ts';
import type { Payer } from './ledger.ts';
import type { Readable } from './read-database.ts';

/** What is known of an envelope sender; 0 for nothing. */
export const VOUCHED = 1;
export const DISOWNED = 2;

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
  /** The signed-in mailbox that sent it. */
  mailbox: string | null;
  messageId: string | null;
  /** RFC 3461: what the sender called it, and what a report is to return. */
  envelopeId: string | null;
  returnContent: string | null;
  /** Whether it was given under SMTPUTF8 (RFC 6531). */
  smtputf8: boolean;
  /** The domain here whose keys sign it when it leaves. */
  signsFor: string | null;
  /** When a sign-in or SPF vouches for the envelope sender: only then it hears of success (RFC 3464 §4 on forged senders). */
  isVouched: boolean;
  /** When the sender's own domain says that it is forged: then nothing is reported to that sender. */
  isDisowned: boolean;
  /** The domain and the mailbox here that sent it, by number: a report goes to nobody who has the name later. */
  domainId?: number | null;
  mailboxId?: number | null;
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
  held: Held | null;
}

export interface JournalEntry {
  seq: number;
  at: number;
  event: string;
  data: Record<string, unknown>;
  /** Who did it; null for the service itself. */
  actor: Actor | null;
}

/** What is known of a message before its text has been judged, and what came of it. */
export type JourneyFacts = Omit<Journey, 'outcome' | 'file' | 'size'>;
export type JourneyResult = Pick<Journey, 'outcome' | 'file' | 'size'>;

export function addJourney(db: Database, journey: JourneyFacts, { outcome, file, size }: JourneyResult): void {
  db.run(
    `INSERT INTO journey (id, at, kind, outcome, sender, recipients, subject, size, client, domain, file, mailbox, message_id, envelope_id, return_content, smtputf8, signs_for, vouched, sender_domain_id, sender_mailbox_id, domain_id)
     VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, (SELECT id FROM domain WHERE name = ?))
     ON CONFLICT (id) DO UPDATE SET outcome = excluded.outcome, recipients = excluded.recipients, subject = excluded.subject, size = excluded.size,
       file = excluded.file, message_id = excluded.message_id`,
    journey.id,
    journey.at,
    journey.kind,
    outcome,
    journey.sender,
    journey.recipients,
    journey.subject,
    size,
    journey.client,
    journey.domain,
    file,
    journey.mailbox,
    journey.messageId,
    journey.envelopeId,
    journey.returnContent,
    journey.smtputf8 ? 1 : 0,
    journey.signsFor,
    journey.isVouched ? VOUCHED : journey.isDisowned ? DISOWNED : 0,
    journey.domainId ?? null,
    journey.mailboxId ?? null,
    journey.domain,
  );
}

/** What was asked and decided for a recipient. */
export interface RecipientTerms {
  held: Held | null;
  /** The limited scope that it waits for, as `domain 3`. */
  fullScope: string | null;
  /** Whether it is a send that somebody pays for. */
  isCharged: boolean;
  notify: string | null;
  original: string | null;
  /** The envelope sender on its way on, where that is not the journey's. */
  onwardSender: string | null;
}

export interface NewRecipient {
  address: string;
  domain: string;
  state: RecipientState;
  nextAttemptAt: number | null;
  at: number;
  /** When it began to be held, by the clock of waiting. */
  heldAt: number | null;
  /** Who pays once there is room; for what waits for it. */
  payer: Payer | null;
  /** The domain here whose message it is. */
  senderDomain: string | null;
  /** The domain and mailbox here that it waits for; another one of the same name does not get it. */
  home?: { domainId: number | null; mailboxId: number | null } | undefined;
}

/** The two sides of a recipient are not put together first: a message has many, and objects made of others are slow to make and to read. */
export function addRecipient(db: Database, journeyId: string, terms: RecipientTerms, recipient: NewRecipient): number {
  return db.run(
    `INSERT INTO recipient (journey_id, address, domain, state, next_attempt_at, changed_at, held, held_at, full_scope, charged, notify, original, onward_sender, payer, sender_domain, home_domain_id, home_mailbox_id)
     VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
    journeyId,
    recipient.address,
    recipient.domain,
    recipient.state,
    recipient.nextAttemptAt,
    recipient.at,
    terms.held,
    recipient.heldAt,
    terms.fullScope,
    terms.isCharged ? 1 : 0,
    terms.notify,
    terms.original,
    terms.onwardSender,
    recipient.payer && JSON.stringify(recipient.payer),
    recipient.senderDomain,
    recipient.home?.domainId ?? null,
    recipient.home?.mailboxId ?? null,
  ).id;
}

export type NewEntry = EventOf & {
  at: number;
  journeyId: string | null;
  domain: string | null;
};

/** A step of a journey that is written down together with others. */
export type JourneyStep = EventOf & { at: number };

const INSERT_ENTRY = 'INSERT INTO journal (at, journey_id, domain, event, data, version, actor) VALUES (?, ?, ?, ?, ?, ?, ?)';

export function addEntry(db: Database, entry: NewEntry): void {
  const actor = db.actor && JSON.stringify(db.actor);
  db.run(INSERT_ENTRY, entry.at, entry.journeyId, entry.domain, entry.event, JSON.stringify(entry.data), EVENTS[entry.event], actor);
}

/** What a row of this event holds: several entries of one journey, written at once because that costs one row instead of many. */
const STEPS = 'steps';

/** Journals several steps of one journey in one row. */
export function addSteps(db: Database, journeyId: string, domain: string | null, steps: readonly JourneyStep[]): void {
  if (steps.length === 0) return;
  const data = JSON.stringify(steps.map(({ at, event, data }) => [at, event, data]));
  db.run(INSERT_ENTRY, steps[0]?.at ?? 0, journeyId, domain, STEPS, data, 2, null);
}

export function findJourney(db: Database, id: string): Journey | undefined {
  const row = db.one<Omit<Journey, 'smtputf8' | 'isVouched' | 'isDisowned'> & { smtputf8: number; vouched: number }>(
    `SELECT id, at, kind, outcome, sender, recipients, subject, size, client, domain, file, mailbox, message_id AS messageId,
       envelope_id AS envelopeId, return_content AS returnContent, smtputf8, signs_for AS signsFor, vouched, sender_domain_id AS domainId, sender_mailbox_id AS mailboxId FROM journey WHERE id = ?`,
    id,
  );
  if (!row) return undefined;
  const { vouched, ...journey } = row;
  return { ...journey, smtputf8: row.smtputf8 === 1, isVouched: vouched === VOUCHED, isDisowned: vouched === DISOWNED };
}

const RECIPIENT =
  'SELECT id, address, domain, state, attempts, next_attempt_at AS nextAttemptAt, reply, changed_at AS changedAt, held FROM recipient';
export const listRecipients = (db: Database, journeyId: string) =>
  db.all<Recipient>(`${RECIPIENT} WHERE journey_id = ? ORDER BY id`, journeyId);

/** Recipients of some messages, with whose they are. */
export const recipientsOf = (db: Database, journeyIds: readonly string[]) =>
  db.all<Pick<Recipient, 'state' | 'reply'> & { journeyId: string }>(
    'SELECT journey_id AS journeyId, state, reply FROM recipient WHERE journey_id IN (SELECT value FROM json_each(?))',
    JSON.stringify(journeyIds),
  );

interface JournalRow {
  seq: number;
  at: number;
  event: string;
  data: string;
  actor: string | null;
}

const nameOf = (event: string): string => FORMER_NAMES.get(event) ?? event;

/** The entries that a row stands for. */
function entriesOf<Row extends JournalRow>(row: Row): (Omit<Row, 'data' | 'actor'> & JournalEntry)[] {
  const data = JSON.parse(row.data);
  const actor = row.actor === null ? null : (JSON.parse(row.actor) as Actor);
  if (row.event !== STEPS) return [{ ...row, actor, event: nameOf(row.event), data }];
  const steps = data as [number, string, Record<string, unknown>][];
  return steps.map(([at, event, values]) => ({ ...row, actor, at, event: nameOf(event), data: values }));
}

export function listEntries(db: Database, journeyId: string): JournalEntry[] {
  return db
    .all<JournalRow>('SELECT seq, at, event, data, actor FROM journal WHERE journey_id = ? ORDER BY seq', journeyId)
    .flatMap(entriesOf)
    .sort((one, other) => one.at - other.at);
}

/** Into which folder a message was judged; what was not judged goes to the Inbox. */
export function folderOfJourney(db: Database, journeyId: string): 'Inbox' | 'Junk' {
  const judged = listEntries(db, journeyId).find((one) => one.event === 'judged');
  return judged?.data.folder === 'Junk' ? 'Junk' : 'Inbox';
}

export type WholeEntry = JournalEntry & { journeyId: string | null; domain: string | null };

const ENTRY = 'SELECT seq, at, event, data, actor, journey_id AS journeyId, domain FROM journal';

/**
 * The newest events of a domain, or of everything, newest first: as many as are asked for, or a few less, because what was written as one row
 * stays together. `next` is the row to go on before; null at the end.
 */
export function listJournal(
  db: Database,
  domain: string | null,
  { limit, before }: { limit: number; before: number | null },
): { rows: WholeEntry[]; next: number | null } {
  // Put so that the index leads to where it goes on, however far back that is.
  const from = before === null ? { at: Number.MAX_SAFE_INTEGER } : db.one<{ at: number }>('SELECT at FROM journal WHERE seq = ?', before);
  if (!from) return { rows: [], next: null };
  const found = db.all<JournalRow & { journeyId: string | null; domain: string | null }>(
    `${ENTRY} WHERE ${domain === null ? '' : 'domain = @domain AND '}at <= @at AND (at, seq) < (@at, @before) ORDER BY at DESC, seq DESC LIMIT @limit`,
    { domain, at: from.at, before: before ?? 0, limit: limit + 1 },
  );
  const rows: WholeEntry[] = [];
  for (const row of found) {
    const entries = entriesOf(row).reverse();
    if (rows.length > 0 && rows.length + entries.length > limit) return { rows, next: rows.at(-1)?.seq ?? null };
    rows.push(...entries);
  }
  return { rows, next: null };
}

/** What was journalled after a row, oldest first, by whole rows. */
export const entriesAfter = (db: Database, seq: number, limit: number): WholeEntry[] =>
  db
    .all<JournalRow & { journeyId: string | null; domain: string | null }>(`${ENTRY} WHERE seq > ? ORDER BY seq LIMIT ?`, seq, limit)
    .flatMap(entriesOf);
/** When something was last written into the journal. */
export const newestEntryAt = (db: Readable): number | null =>
  db.one<{ at: number }>('SELECT at FROM journal ORDER BY seq DESC LIMIT 1')?.at ?? null;
export const newestEntry = (db: Database): number => db.one<{ seq: number | null }>('SELECT max(seq) AS seq FROM journal')?.seq ?? 0;
