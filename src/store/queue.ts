import type { Place } from '../core/cursor.ts';
import { type Held, type Order, type RecipientState, STOPS, type StopKind } from '../core/vocabulary.ts';
import type { Database } from './database.ts';
import { DISOWNED, type Journey, type Recipient, VOUCHED } from './journeys.ts';
import type { Payer } from './ledger.ts';
import { keyset, type Page } from './page.ts';
import type { Readable } from './read-database.ts';

/** A recipient that waits for an attempt, with what the attempt needs. */
export interface QueueItem extends Recipient {
  journeyId: string;
  /** Who wrote: reports go there. */
  sender: string | null;
  /** The envelope sender on the way on, where that is another. */
  onwardSender: string | null;
  kind: Journey['kind'];
  file: string;
  size: number;
  acceptedAt: number;
  senderDomain: string | null;
  /** Its number; null for what came before that was kept. */
  senderDomainId: number | null;
  mailbox: string | null;
  mailboxId: number | null;
  notify: string | null;
  original: string | null;
  isDelayTold: boolean;
  isCharged: boolean;
  payer: Payer | null;
  fullScope: string | null;
  heldAt: number | null;
  messageId: string | null;
  envelopeId: string | null;
  returnContent: string | null;
  smtputf8: boolean;
  signsFor: string | null;
  isVouched: boolean;
  isDisowned: boolean;
  /** The domain and the mailbox here that it waits for, when it does. */
  homeDomainId: number | null;
  homeMailboxId: number | null;
}

const QUEUE_COLUMNS = `r.id, r.address, r.domain, r.state, r.attempts, r.next_attempt_at AS nextAttemptAt, r.reply, r.changed_at AS changedAt,
  r.held, r.held_at AS heldAt, r.full_scope AS fullScope, r.charged AS isCharged, r.payer, r.notify, r.original, r.delay_told AS isDelayTold, r.onward_sender AS onwardSender,
  j.id AS journeyId, j.sender, j.kind, j.file, j.size, j.at AS acceptedAt, j.domain AS senderDomain, j.domain_id AS senderDomainId, j.mailbox, j.sender_mailbox_id AS mailboxId, j.message_id AS messageId,
  j.envelope_id AS envelopeId, j.return_content AS returnContent, j.smtputf8, j.signs_for AS signsFor, j.vouched AS isVouched,
  r.home_domain_id AS homeDomainId, r.home_mailbox_id AS homeMailboxId`;
const QUEUE_FROM = 'FROM recipient r JOIN journey j ON j.id = r.journey_id';
export const QUEUE = `SELECT ${QUEUE_COLUMNS} ${QUEUE_FROM}`;

export type QueueRow = Omit<QueueItem, 'isDelayTold' | 'isCharged' | 'payer' | 'smtputf8' | 'isVouched' | 'isDisowned'> & {
  isDelayTold: number;
  isCharged: number;
  payer: string | null;
  smtputf8: number;
  isVouched: number;
};
/** In place: there may be hundreds of thousands, of thirty columns each. */
export const fromQueueRow = (row: QueueRow): QueueItem =>
  Object.assign(row, {
    isDelayTold: row.isDelayTold === 1,
    isCharged: row.isCharged === 1,
    payer: row.payer === null ? null : (JSON.parse(row.payer) as Payer),
    smtputf8: row.smtputf8 === 1,
    isVouched: row.isVouched === VOUCHED,
    isDisowned: row.isVouched === DISOWNED,
  });

export const countQueue = (db: Database): number =>
  db.one<{ n: number }>('SELECT count(*) AS n FROM recipient WHERE next_attempt_at IS NOT NULL')?.n ?? 0;
export const countHeld = (db: Readable): number =>
  db.one<{ n: number }>('SELECT count(*) AS n FROM recipient WHERE held IS NOT NULL')?.n ?? 0;
export function changeRecipient(
  db: Database,
  id: number,
  change: {
    state: RecipientState;
    attempts: number;
    nextAttemptAt: number | null;
    reply: string | null;
    at: number;
    /** Nothing was tried, because no outlet had room. */
    wantsOutlet?: boolean;
  },
): void {
  db.run(
    'UPDATE recipient SET state = ?, attempts = ?, next_attempt_at = ?, reply = ?, changed_at = ?, wants_outlet = ?, held = CASE WHEN ? IS NULL THEN NULL ELSE held END WHERE id = ?',
    change.state,
    change.attempts,
    change.nextAttemptAt,
    change.reply,
    change.at,
    change.wantsOutlet && change.nextAttemptAt !== null ? 1 : 0,
    change.nextAttemptAt,
    id,
  );
}
export const listWantingOutlet = (db: Database) => db.allSlowly<{ id: number }>('SELECT id FROM recipient WHERE wants_outlet = 1');
/** Those who wait for an outlet are due now. */
export const lookForOutletAgain = (db: Database, ids: readonly number[], now: number): number =>
  db.run(
    'UPDATE recipient SET next_attempt_at = ?, wants_outlet = 0 WHERE wants_outlet = 1 AND id IN (SELECT value FROM json_each(?))',
    now,
    JSON.stringify(ids),
  ).changes;
export const noteDelayTold = (db: Database, id: number) => db.run('UPDATE recipient SET delay_told = 1 WHERE id = ?', id);

/** Which waiting recipients are meant; what is null does not count. */
export interface QueueFilter {
  ids: readonly string[] | null;
  domain: string | null;
  destination: string | null;
  sender: string | null;
  /** Accepted before that time. */
  acceptedBefore: number | null;
  held: Held | 'any' | 'none' | null;
}

const MATCHES = `r.next_attempt_at IS NOT NULL
  AND (@ids IS NULL OR j.id IN (SELECT value FROM json_each(@ids)))
  AND (@domain IS NULL OR j.domain = @domain) AND (@destination IS NULL OR r.domain = @destination) AND (@sender IS NULL OR j.sender = @sender COLLATE NOCASE)
  AND (@before IS NULL OR j.at < @before)
  AND (@held IS NULL OR (@held = 'any' AND r.held IS NOT NULL) OR (@held = 'none' AND r.held IS NULL) OR r.held = @held)`;
const values = (filter: QueueFilter) => ({
  ids: filter.ids === null ? null : JSON.stringify(filter.ids),
  domain: filter.domain,
  destination: filter.destination,
  sender: filter.sender,
  before: filter.acceptedBefore,
  held: filter.held,
});

/** `next`: what is held comes last, since nothing is tried. */
const QUEUE_ORDERS: Record<Order<'queue'>, readonly string[]> = {
  next: ['r.held IS NOT NULL', 'r.next_attempt_at'],
  accepted: ['j.at'],
  sender: ['j.sender'],
  recipient: ['r.domain', 'r.address'],
  attempts: ['r.attempts DESC', 'r.next_attempt_at'],
  size: ['j.size DESC'],
};
export type QueueOrder = Order<'queue'>;

/** Which part of the queue is read, in which order. */
export interface QueuePart {
  sort: QueueOrder;
  reverse: boolean;
  offset: number;
  limit: number;
  after?: Place | null;
}
export async function listQueue(
  db: Database,
  filter: QueueFilter,
  { sort, reverse, offset, limit, after }: QueuePart,
): Promise<Omit<Page<QueueItem>, 'total'>> {
  const set = keyset([...QUEUE_ORDERS[sort], 'r.id'], reverse, after);
  const rows = await db.allSlowly<QueueRow>(
    `SELECT ${QUEUE_COLUMNS}, ${set.keys} ${QUEUE_FROM} WHERE ${MATCHES} AND ${set.condition} ORDER BY ${set.order} LIMIT @limit OFFSET @offset`,
    { ...values(filter), ...set.values, limit: limit + 1, offset },
  );
  const page = set.page(rows, limit);
  return { ...page, rows: page.rows.map(fromQueueRow) };
}
export async function countMatching(db: Database, filter: QueueFilter): Promise<{ recipients: number; messages: number }> {
  const [counted] = await db.allSlowly<{ recipients: number; messages: number }>(
    `SELECT count(*) AS recipients, count(DISTINCT j.id) AS messages FROM recipient r JOIN journey j ON j.id = r.journey_id WHERE ${MATCHES}`,
    values(filter),
  );
  return counted ?? { recipients: 0, messages: 0 };
}

/** A recipient of many: what is done to it is checked once more when its turn comes. */
export interface Matching {
  id: number;
  journeyId: string;
  /** Where it goes. */
  domain: string;
  /** The domain here whose mail it is. */
  senderDomain: string | null;
}
const MATCHING = `SELECT r.id, r.journey_id AS journeyId, r.domain, j.domain AS senderDomain FROM recipient r JOIN journey j ON j.id = r.journey_id`;
export const listMatching = (db: Database, filter: QueueFilter) =>
  db.allSlowly<Matching>(`${MATCHING} WHERE ${MATCHES} ORDER BY r.id`, values(filter));

/** The queue by where it wants to go. */
export interface QueueDestination {
  destination: string;
  recipients: number;
  held: number;
  delayed: number;
  oldestAt: number;
  nextAttemptAt: number | null;
  lastReply: string | null;
}
export async function countDestinations(db: Database): Promise<number> {
  const [counted] = await db.allSlowly<{ n: number }>(
    'SELECT count(DISTINCT domain) AS n FROM recipient WHERE next_attempt_at IS NOT NULL',
  );
  return counted?.n ?? 0;
}
export const queueByDestination = (db: Database, limit: number, offset: number) =>
  db.allSlowly<QueueDestination>(
    `SELECT r.domain AS destination, count(*) AS recipients, sum(r.held IS NOT NULL) AS held, sum(r.state = 'delayed') AS delayed,
       min(j.at) AS oldestAt, min(CASE WHEN r.held IS NULL THEN r.next_attempt_at END) AS nextAttemptAt,
       (SELECT l.reply FROM recipient l WHERE l.domain = r.domain AND l.next_attempt_at IS NOT NULL AND l.reply IS NOT NULL
        ORDER BY l.changed_at DESC LIMIT 1) AS lastReply
     FROM recipient r JOIN journey j ON j.id = r.journey_id WHERE r.next_attempt_at IS NOT NULL GROUP BY r.domain ORDER BY 2 DESC, 1 LIMIT ? OFFSET ?`,
    limit,
    offset,
  );

const THESE = 'id IN (SELECT value FROM json_each(?)) AND next_attempt_at IS NOT NULL';
/** Makes some of these recipients due at once; those that are held stay so. */
export const hurry = (db: Database, ids: readonly number[], now: number): number =>
  db.run(`UPDATE recipient SET next_attempt_at = ? WHERE held IS NULL AND ${THESE}`, now, JSON.stringify(ids)).changes;
export const hold = (db: Database, ids: readonly number[], held: Held, now: number): number =>
  db.run(`UPDATE recipient SET held = ?, held_at = ? WHERE held IS NULL AND ${THESE}`, held, now, JSON.stringify(ids)).changes;
/** Lets held recipients go, all or those that are held for one reason; those that wait for a limit stay, because nothing is charged for them yet, and so do those that were held by hand besides. */
export const release = (db: Database, ids: readonly number[], only: Held | null, now: number): number =>
  db.run(
    `UPDATE recipient SET held = CASE WHEN payer IS NOT NULL AND charged = 0 THEN 'limit' END, held_at = CASE WHEN payer IS NOT NULL AND charged = 0 THEN held_at END,
      next_attempt_at = ? WHERE held IS NOT NULL AND held <> 'limit' AND held = coalesce(?, held) AND ${THESE}`,
    now,
    only,
    JSON.stringify(ids),
  ).changes;

/** Whose waiting mail: a customer's, a domain's or a mailbox's own submissions. */
export interface SenderScope {
  customer: string | null;
  domain: string | null;
  mailbox: string | null;
}
const OF_SENDER = `r.next_attempt_at IS NOT NULL AND j.kind IN ('submitted', 'received')
  AND (@customer IS NULL OR j.domain IN (SELECT d.name FROM domain d JOIN customer c ON c.id = d.customer_id WHERE c.name = @customer))
  AND (@domain IS NULL OR j.domain = @domain) AND (@mailbox IS NULL OR j.mailbox = @mailbox)`;
/** What waits of a sender: held for that reason, or not held at all. */
export const listOfSender = (db: Database, scope: SenderScope, held: Held | null) =>
  db.allSlowly<Matching>(`${MATCHING} WHERE r.held IS @held AND ${OF_SENDER} ORDER BY r.id`, { ...scope, held });
export async function countOfSender(db: Database, scope: SenderScope, held: Held | null): Promise<number> {
  const [counted] = await db.allSlowly<{ n: number }>(
    `SELECT count(*) AS n FROM recipient r JOIN journey j ON j.id = r.journey_id WHERE r.held IS @held AND ${OF_SENDER}`,
    { ...scope, held },
  );
  return counted?.n ?? 0;
}
const STOPPED = STOPS.map((kind) => `'${kind}'`).join(', ');

/** All that is held because its sender is stopped; as a rule nothing is, and that is known at once. */
export const listStopped = async (db: Database) =>
  db.one(`SELECT 1 FROM recipient WHERE held IN (${STOPPED}) LIMIT 1`) === undefined
    ? []
    : db.allSlowly<Matching & { held: StopKind; mailbox: string | null; kind: Journey['kind'] }>(
        `SELECT r.id, r.journey_id AS journeyId, r.domain, j.domain AS senderDomain, r.held, j.mailbox, j.kind
     FROM recipient r JOIN journey j ON j.id = r.journey_id WHERE r.held IN (${STOPPED}) AND r.next_attempt_at IS NOT NULL`,
      );

export const findItem = (db: Database, id: number): QueueItem | undefined =>
  db.all<QueueRow>(`${QUEUE} WHERE r.id = ?`, id).map(fromQueueRow)[0];

/** Under whose limits somebody waits, as `domain 3`; by stepping through the index from one to the next. */
export const accountsWaiting = (db: Database): string[] =>
  db
    .all<{ account: string }>(
      `WITH RECURSIVE next(account) AS (
         SELECT min(full_scope) FROM recipient WHERE held = 'limit'
         UNION ALL SELECT (SELECT min(full_scope) FROM recipient WHERE held = 'limit' AND full_scope > account) FROM next WHERE account IS NOT NULL
       ) SELECT account FROM next WHERE account IS NOT NULL`,
    )
    .map((row) => row.account);
/** Recipients that wait for room under one limit, the oldest first, those after one that was read before. */
export const waitingForRoom = (db: Database, account: string, after: QueueItem | null, limit: number): QueueItem[] =>
  db
    .all<QueueRow>(
      `${QUEUE} WHERE r.held = 'limit' AND r.full_scope = ? AND (r.held_at, r.id) > (?, ?) ORDER BY r.held_at, r.id LIMIT ?`,
      account,
      after?.heldAt ?? -1,
      after?.id ?? 0,
      limit,
    )
    .map(fromQueueRow);
export const countWaitingForRoom = (db: Database, fullScope: string): number =>
  db.one<{ n: number }>(`SELECT count(*) AS n FROM recipient WHERE held = 'limit' AND full_scope = ?`, fullScope)?.n ?? 0;
/** There is room: charged and due. */
export const admit = (db: Database, id: number, now: number) =>
  db.run('UPDATE recipient SET held = NULL, held_at = NULL, charged = 1, next_attempt_at = ? WHERE id = ?', now, id);
export const waitFor = (db: Database, id: number, fullScope: string) =>
  db.run('UPDATE recipient SET full_scope = ? WHERE id = ?', fullScope, id);
/** Whether anything of a journey was charged already. */
export const isCharged = (db: Database, journeyId: string): boolean =>
  db.one(`SELECT 1 FROM recipient WHERE journey_id = ? AND charged = 1 AND state <> 'delivered' LIMIT 1`, journeyId) !== undefined;
/** Mail for a domain that waits here, for a server that asks for it (RFC 1985). */
export const listForDestination = (db: Database, destination: string) =>
  db.allSlowly<{ id: number }>('SELECT id FROM recipient WHERE domain = ? AND next_attempt_at IS NOT NULL AND held IS NULL', destination);
