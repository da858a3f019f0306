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
  counted(
    db,
    `SELECT count(*) AS n FROM domain d WHERE d.role IN ('home', 'away') AND NOT EXISTS (SELECT 1 FROM check_result r WHERE r.domain_id = d.id)`,
  );

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

/** Sends of all domains hour by hour, oldest first. */
export const allHourlySends = (db: Database, since: number) =>
  db.all<{ hour: number; sends: number }>(
    'SELECT at / 3600000 * 3600000 AS hour, sum(sends) AS sends FROM ledger WHERE at > ? GROUP BY 1 ORDER BY 1',
    since,
  );

export const busiestDomains = (db: Database, since: number, limit: number) =>
  db.all<{ domain: string; sends: number; limit: number | null }>(
    `SELECT d.name AS domain, u.sends, d.day_limit AS "limit"
     FROM (SELECT domain_id, sum(sends) AS sends FROM ledger WHERE at > ? GROUP BY 1) u
     JOIN domain d ON d.id = u.domain_id ORDER BY u.sends DESC LIMIT ?`,
    since,
    limit,
  );

/** Domains that have used at least `share` of one of their limits. */
export const domainsNearLimit = (db: Database, hourAgo: number, dayAgo: number, share: number, limit: number) =>
  db.all<{ id: number; name: string; hour: number | null; day: number | null }>(
    `SELECT d.id, d.name, d.hour_limit AS hour, d.day_limit AS day
     FROM (SELECT domain_id, sum(sends) AS day_sends, sum(CASE WHEN at > ? THEN sends END) AS hour_sends FROM ledger WHERE at > ? GROUP BY 1) u
     JOIN domain d ON d.id = u.domain_id WHERE u.day_sends >= d.day_limit * ? OR u.hour_sends >= d.hour_limit * ? LIMIT ?`,
    hourAgo,
    dayAgo,
    share,
    share,
    limit,
  );
