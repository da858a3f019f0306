import type { Order, SignInService } from '../core/vocabulary.ts';
import type { Database } from './database.ts';
import { keyset, type Page, type PageAsked } from './page.ts';

const WEEK_MS = 7 * 24 * 3_600_000;
/** As many clients of a mailbox are told apart in a week, for good and for wrong sign-ins each; the others share a row. */
const MOST_CLIENTS = 200;
const OTHERS = 'others';

/** Sign-ins of one kind, counted together. */
export interface NewSignIns {
  mailboxId: number;
  service: SignInService;
  client: string;
  /** The name of the app password; null for the mailbox's own password. */
  device: string | null;
  isGood: boolean;
  times: number;
  first: number;
  last: number;
}

/** A week's sign-ins to a mailbox by one client, with one password. */
export interface SignIns extends Omit<NewSignIns, 'mailboxId'> {
  id: number;
  mailbox: string;
}

/** Counts sign-ins; those to a mailbox that is gone are left out. */
export function noteSignIns(db: Database, one: NewSignIns): void {
  const { device, isGood, ...values } = one;
  const bound = { ...values, device: device ?? '', isGood: isGood ? 1 : 0, week: Math.floor(one.last / WEEK_MS) };
  const add = (client: string): number =>
    db.run(
      `UPDATE mailbox_sign_in SET times = times + @times, last_at = max(last_at, @last)
       WHERE mailbox_id = @mailboxId AND week = @week AND is_good = @isGood AND client = @client AND service = @service AND device = @device`,
      { ...bound, client },
    ).changes;
  if (add(one.client) > 0) return;
  const known = db.one<{ n: number }>(
    'SELECT count(DISTINCT client) AS n FROM mailbox_sign_in WHERE mailbox_id = @mailboxId AND week = @week AND is_good = @isGood',
    { mailboxId: bound.mailboxId, week: bound.week, isGood: bound.isGood },
  );
  const client = (known?.n ?? 0) < MOST_CLIENTS ? one.client : OTHERS;
  if (client === OTHERS && add(OTHERS) > 0) return;
  db.run(
    `INSERT INTO mailbox_sign_in (mailbox_id, week, is_good, client, service, device, times, first_at, last_at)
     SELECT id, @week, @isGood, @client, @service, @device, @times, @first, @last FROM mailbox WHERE id = @mailboxId`,
    { ...bound, client },
  );
}

/** Removes some of what is older; returns how many. */
export const removeSignInsBefore = (db: Database, before: number, most: number): number =>
  db.run(
    'DELETE FROM mailbox_sign_in WHERE id IN (SELECT id FROM mailbox_sign_in WHERE last_at < ? ORDER BY last_at LIMIT ?)',
    before,
    most,
  ).changes;

const ORDERS: Record<Order<'signIns'>, readonly string[]> = {
  last: ['s.last_at DESC', 's.id DESC'],
  mailbox: ['d.name', 'm.local', 's.last_at DESC', 's.id DESC'],
  client: ['s.client', 's.last_at DESC', 's.id DESC'],
  times: ['s.times DESC', 's.id DESC'],
};

/** Whose sign-ins are meant: by one mailbox, one domain, one client, a part of an address, or anybody's. */
export type SignInsOf = { kind: 'mailbox' | 'domain'; id: number } | { kind: 'client' | 'words'; text: string } | null;

const MATCHES: Record<NonNullable<SignInsOf>['kind'], string> = {
  mailbox: 's.mailbox_id = @who',
  domain: 'm.domain_id = @who',
  client: 's.client = @who',
  words: `s.mailbox_id IN (SELECT w.id FROM mailbox w JOIN domain wd ON wd.id = w.domain_id WHERE w.local || '@' || wd.name LIKE @who ESCAPE '\\')`,
};

export async function pageOfSignIns(
  db: Database,
  of: SignInsOf,
  { sort, reverse, after, limit, offset }: PageAsked & { sort: Order<'signIns'> },
): Promise<Page<SignIns>> {
  const matches = of === null ? 'true' : MATCHES[of.kind];
  const who = of === null ? null : 'id' in of ? of.id : of.kind === 'words' ? `%${of.text.replace(/[\\%_]/g, '\\$&')}%` : of.text;
  const from = 'mailbox_sign_in s JOIN mailbox m ON m.id = s.mailbox_id JOIN domain d ON d.id = m.domain_id';
  const set = keyset(ORDERS[sort], reverse, after);
  const values = who === null ? {} : { who };
  const [counted, rows] = await Promise.all([
    db.allSlowly<{ total: number }>(`SELECT count(*) AS total FROM ${from} WHERE ${matches}`, values),
    db.allSlowly<Omit<SignIns, 'isGood'> & { isGood: number }>(
      `SELECT s.id, m.local || '@' || d.name AS mailbox, s.service, s.client, nullif(s.device, '') AS device, s.is_good AS isGood, s.times,
         s.first_at AS first, s.last_at AS last, ${set.keys}
       FROM ${from} WHERE ${matches} AND ${set.condition} ORDER BY ${set.order} LIMIT @limit OFFSET @offset`,
      { ...values, ...set.values, limit: limit + 1, offset },
    ),
  ]);
  const page = set.page(rows, limit);
  return { ...page, total: counted[0]?.total ?? 0, rows: page.rows.map((row) => ({ ...row, isGood: row.isGood === 1 })) };
}
