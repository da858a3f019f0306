import type { Finding, SUBJECTS, Verdict } from '../core/checks/finding.ts';
import type { Database } from './database.ts';

const counted = (db: Database, sql: string, ...values: number[]): number => db.one<{ n: number }>(sql, ...values)?.n ?? 0;

export const countDomains = (db: Database): number => counted(db, 'SELECT count(*) AS n FROM domain');
export const countMailboxes = (db: Database): number => counted(db, 'SELECT count(*) AS n FROM mailbox');
export const countDelayed = (db: Database): number =>
  counted(db, `SELECT count(*) AS n FROM recipient WHERE next_attempt_at IS NOT NULL AND state = 'delayed'`);
/** Recipients that still wait although their message was accepted before that time. */
export const countWaitingSince = (db: Database, acceptedBefore: number): number =>
  counted(
    db,
    'SELECT count(*) AS n FROM recipient r JOIN journey j ON j.id = r.journey_id WHERE r.next_attempt_at IS NOT NULL AND j.at < ?',
    acceptedBefore,
  );
/** Domains that could be checked and never were. */
export const countUnchecked = (db: Database): number =>
  counted(db, `SELECT count(*) AS n FROM domain d WHERE NOT EXISTS (SELECT 1 FROM check_result r WHERE r.domain_id = d.id)`);

/** How many domains have each verdict for a subject. The subject is one of ours, never text from outside. */
export const verdictCounts = (db: Database, subject: (typeof SUBJECTS)[number]): Partial<Record<Verdict, number>> =>
  Object.fromEntries(
    db
      .all<{ verdict: Verdict; n: number }>(
        `SELECT ${subject} AS verdict, count(*) AS n FROM check_result WHERE ${subject} IS NOT NULL GROUP BY 1`,
      )
      .map((row) => [row.verdict, row.n]),
  );

export const newestCheck = (db: Database): number | null =>
  db.one<{ at: number | null }>('SELECT max(checked_at) AS at FROM check_result')?.at ?? null;

export const oldestCheck = (db: Database): number | null =>
  db.one<{ at: number | null }>('SELECT min(checked_at) AS at FROM check_result')?.at ?? null;

/** The least ready domains that are not wholly ready. */
export const worstChecks = (db: Database, limit: number): { name: string; findings: Finding[] }[] =>
  db
    .all<{ name: string; findings: string }>(
      // Findings are long: they are read for the chosen ones only.
      `SELECT d.name, r.findings FROM (
         SELECT domain_id, readiness FROM check_result WHERE readiness IS NULL OR readiness < 100 OR dkim <> 'good'
         ORDER BY coalesce(readiness, 101) LIMIT ?
       ) w JOIN check_result r ON r.domain_id = w.domain_id JOIN domain d ON d.id = r.domain_id ORDER BY coalesce(w.readiness, 101), d.name`,
      limit,
    )
    .map((row) => ({ name: row.name, findings: JSON.parse(row.findings) }));

export const busiestDomains = (db: Database, since: number, limit: number) =>
  db.all<{ id: number; domain: string; sends: number }>(
    `SELECT u.domain_id AS id, d.name AS domain, u.sends
     FROM (SELECT domain_id, sum(sends) AS sends FROM ledger WHERE at > ? AND domain_id IS NOT NULL GROUP BY 1 ORDER BY 2 DESC LIMIT ?) u
     JOIN domain d ON d.id = u.domain_id ORDER BY u.sends DESC`,
    since,
    limit,
  );

/** Mailboxes by what they sent since then. */
export const topSenders = (db: Database, since: number, limit: number) =>
  db.all<{ domain: string; mailbox: string | null; messages: number; sends: number; bytes: number }>(
    `SELECT domain, mailbox, sum(messages) AS messages, sum(sends) AS sends, sum(bytes) AS bytes FROM ledger WHERE at > ?
     GROUP BY 1, 2 ORDER BY 4 DESC LIMIT ?`,
    since,
    limit,
  );
