import type { Finding } from '../core/checks/finding.ts';
import type { Amounts } from '../core/limits/amounts.ts';
import { type DomainSubject, QUANTITIES, SUBJECTS, type Verdict } from '../core/vocabulary.ts';
import type { Database } from './database.ts';
import type { Window } from './ledger.ts';
import type { SlowlyReadable } from './read-database.ts';

async function counted(db: SlowlyReadable, sql: string, ...values: number[]): Promise<number> {
  const [row] = await db.allSlowly<{ n: number }>(sql, ...values);
  return row?.n ?? 0;
}

export const countDomains = (db: SlowlyReadable) => counted(db, 'SELECT count(*) AS n FROM domain');
export const countMailboxes = (db: SlowlyReadable) => counted(db, 'SELECT count(*) AS n FROM mailbox');
export const countWaiting = (db: SlowlyReadable) => counted(db, 'SELECT count(*) AS n FROM recipient WHERE next_attempt_at IS NOT NULL');
export const countDelayed = (db: SlowlyReadable) =>
  counted(db, `SELECT count(*) AS n FROM recipient WHERE next_attempt_at IS NOT NULL AND state = 'delayed'`);
/** Recipients that still wait although their message was accepted before that time. */
export const countWaitingSince = (db: SlowlyReadable, acceptedBefore: number) =>
  counted(
    db,
    'SELECT count(*) AS n FROM recipient r JOIN journey j ON j.id = r.journey_id WHERE r.next_attempt_at IS NOT NULL AND j.at < ?',
    acceptedBefore,
  );
/** Domains that could be checked and never were. */
export const countUnchecked = (db: SlowlyReadable) =>
  counted(db, `SELECT count(*) AS n FROM domain d WHERE NOT EXISTS (SELECT 1 FROM check_result r WHERE r.domain_id = d.id)`);

/** How many domains have each verdict, by subject. */
export async function verdictCounts(db: Database): Promise<Record<DomainSubject, Partial<Record<Verdict, number>>>> {
  // In the order of an index: one pass for all subjects.
  const rows = await db.allSlowly<Record<DomainSubject, Verdict | null> & { n: number }>(
    `SELECT ${SUBJECTS.join(', ')}, count(*) AS n FROM check_result GROUP BY ${SUBJECTS.join(', ')}`,
  );
  const counts = Object.fromEntries(SUBJECTS.map((subject) => [subject, {}])) as Record<DomainSubject, Partial<Record<Verdict, number>>>;
  for (const row of rows)
    for (const subject of SUBJECTS) {
      const verdict = row[subject];
      if (verdict !== null) counts[subject][verdict] = (counts[subject][verdict] ?? 0) + row.n;
    }
  return counts;
}

/** The times of the oldest and the newest result. */
export async function checkTimes(db: Database): Promise<{ oldest: number | null; newest: number | null }> {
  const [row] = await db.allSlowly<{ oldest: number | null; newest: number | null }>(
    'SELECT (SELECT min(checked_at) FROM check_result) AS oldest, (SELECT max(checked_at) FROM check_result) AS newest',
  );
  return row ?? { oldest: null, newest: null };
}

/** The least ready domains that are not wholly ready. */
export async function worstChecks(db: Database, limit: number): Promise<{ name: string; findings: Finding[] }[]> {
  const rows = await db.allSlowly<{ name: string; findings: string }>(
    // Findings are long: they are read for the chosen ones only.
    `SELECT d.name, r.findings FROM (
       SELECT domain_id, readiness FROM check_result WHERE readiness IS NULL OR readiness < 100 OR dkim <> 'good'
       ORDER BY coalesce(readiness, 101) LIMIT ?
     ) w JOIN check_result r ON r.domain_id = w.domain_id JOIN domain d ON d.id = r.domain_id ORDER BY coalesce(w.readiness, 101), d.name`,
    limit,
  );
  return rows.map((row) => ({ name: row.name, findings: JSON.parse(row.findings) }));
}

export const busiestDomains = (db: Database, since: number, limit: number) =>
  db.allSlowly<{ id: number; domain: string; sends: number }>(
    `SELECT u.domain_id AS id, d.name AS domain, u.sends
     FROM (SELECT domain_id, sum(sends) AS sends FROM ledger WHERE at > ? AND domain_id IS NOT NULL GROUP BY 1 ORDER BY 2 DESC LIMIT ?) u
     JOIN domain d ON d.id = u.domain_id ORDER BY u.sends DESC`,
    since,
    limit,
  );

/** Mailboxes by what they sent in a window, of all domains or of one: a part of them, each with how many there are. */
export const topSenders = (
  db: Database,
  domainId: number | null,
  { since, before }: Window,
  { limit, offset }: { limit: number; offset: number },
) =>
  db.allSlowly<{ domain: string; mailbox: string | null; senders: number } & Amounts>(
    `SELECT domain, mailbox, ${QUANTITIES.map((one) => `sum(${one}) AS ${one}`).join(', ')}, count(*) OVER () AS senders FROM ledger
     WHERE at > @since AND at <= @before AND (@domainId IS NULL OR domain_id = @domainId) GROUP BY 1, 2
     ORDER BY 4 DESC, 1, 2 LIMIT @limit OFFSET @offset`,
    { since, before, domainId, limit, offset },
  );
