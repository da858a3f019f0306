import { type Finding, leading } from '../core/checks/finding.ts';
import { SUBJECTS, type Subject, type Verdict } from '../core/vocabulary.ts';
import type { Database } from './database.ts';

export interface CheckResult {
  checkedAt: number;
  readiness: number | null;
  findings: Finding[];
}

/** A result as it stands in the database. */
export interface KeptCheck extends CheckResult {
  written: string;
}

/** The last result of a domain; `known` itself where that is still what stands there, since findings are long to read. */
export function findCheck(db: Database, domainId: number, known: KeptCheck | null = null): KeptCheck | null {
  const row = db.one<{ checkedAt: number; readiness: number | null; findings: string }>(
    'SELECT checked_at AS checkedAt, readiness, findings FROM check_result WHERE domain_id = ?',
    domainId,
  );
  if (!row) return null;
  const { checkedAt, readiness, findings: written } = row;
  if (known?.checkedAt === checkedAt && known.readiness === readiness && known.written === written) return known;
  return { checkedAt, readiness, findings: JSON.parse(written), written };
}

/** Results of some domains, each with whose it is, behind a domain's number. */
export const someChecks = (db: Database, after: number, most: number) =>
  db
    .all<{ id: number; domain: string; customer: string; contact: string | null; checkedAt: number; findings: string }>(
      `SELECT d.id, d.name AS domain, c.name AS customer, c.contact, r.checked_at AS checkedAt, r.findings
       FROM check_result r JOIN domain d ON d.id = r.domain_id JOIN customer c ON c.id = d.customer_id
       WHERE r.domain_id > ? ORDER BY r.domain_id LIMIT ?`,
      after,
      most,
    )
    .map((row) => ({ ...row, findings: JSON.parse(row.findings) as Finding[] }));

export function keepCheck(db: Database, domainId: number, result: CheckResult, nextAt: number): void {
  const first = leading(result.findings);
  db.run(
    `INSERT OR REPLACE INTO check_result (domain_id, checked_at, readiness, ${SUBJECTS.join(', ')}, findings, next_at)
     SELECT id, ?, ?, ${SUBJECTS.map(() => '?').join(', ')}, ?, ? FROM domain WHERE id = ?`,
    result.checkedAt,
    result.readiness,
    ...SUBJECTS.map((subject) => first.find((one) => one.subject === subject)?.verdict ?? null),
    JSON.stringify(result.findings),
    nextAt,
    domainId,
  );
}

/** A changed host or role makes an old result untrue. */
export const forgetCheck = (db: Database, domainId: number) => db.run('DELETE FROM check_result WHERE domain_id = ?', domainId);

/** Something about the domain has changed: it is looked at again soon. */
export const hurryCheck = (db: Database, domainId: number) => db.run('UPDATE check_result SET next_at = 0 WHERE domain_id = ?', domainId);

/** Domains whose next check is due, those never checked first. */
export function dueChecks(db: Database, now: number, limit: number): string[] {
  const fresh = db.all<{ name: string }>(
    `SELECT d.name FROM domain d WHERE NOT EXISTS (SELECT 1 FROM check_result r WHERE r.domain_id = d.id) LIMIT ?`,
    limit,
  );
  const due = db.all<{ name: string }>(
    `SELECT d.name FROM check_result r JOIN domain d ON d.id = r.domain_id
     WHERE r.next_at <= ? ORDER BY r.next_at LIMIT ?`,
    now,
    limit - fresh.length,
  );
  return [...fresh, ...due].map((row) => row.name);
}

/** The last check of the host; null where there is none of the addresses that it has now. */
export function findHostCheck(db: Database, host: CheckedHost): { checkedAt: number; nextAt: number; findings: Finding[] } | null {
  const row = db.one<{ checkedAt: number; nextAt: number; findings: string }>(
    'SELECT checked_at AS checkedAt, next_at AS nextAt, findings FROM host_check WHERE id = 1 AND about = ?',
    aboutOf(host),
  );
  return row ? { ...row, findings: JSON.parse(row.findings) } : null;
}

export const keepHostCheck = (db: Database, host: CheckedHost, checkedAt: number, findings: readonly Finding[], nextAt: number) =>
  db.run(
    'INSERT OR REPLACE INTO host_check (id, about, checked_at, next_at, findings) VALUES (1, ?, ?, ?, ?)',
    aboutOf(host),
    checkedAt,
    nextAt,
    JSON.stringify(findings),
  );

interface CheckedHost {
  name: string;
  addresses: readonly string[];
}
const aboutOf = ({ name, addresses }: CheckedHost): string => [name, ...addresses].join(' ');

/** One turn in the history of a subject. */
export interface FindingChange {
  id: number;
  at: number;
  subject: Subject;
  verdict: Verdict;
  code: string;
  headline: string;
  beforeVerdict: Verdict | null;
  beforeCode: string | null;
}

export function addChange(db: Database, domainId: number | null, change: Omit<FindingChange, 'id'>): void {
  db.run(
    'INSERT INTO finding_change (domain_id, at, subject, verdict, code, headline, before_verdict, before_code) VALUES (?, ?, ?, ?, ?, ?, ?, ?)',
    domainId,
    change.at,
    change.subject,
    change.verdict,
    change.code,
    change.headline,
    change.beforeVerdict,
    change.beforeCode,
  );
}

/** How many turns, and those before which one. */
export interface ChangesAsked {
  limit: number;
  before?: number | undefined;
}

/** The newest turns first; null for the host's own. */
export const listChanges = (
  db: Database,
  domainId: number | null,
  { limit, before = Number.MAX_SAFE_INTEGER }: ChangesAsked,
): FindingChange[] =>
  db.all<FindingChange>(
    `SELECT id, at, subject, verdict, code, headline, before_verdict AS beforeVerdict, before_code AS beforeCode
     FROM finding_change WHERE domain_id IS ? AND id < ? ORDER BY id DESC LIMIT ?`,
    domainId,
    before,
    limit,
  );

/** The last turn of a subject: since when it is as it is. */
export const lastChange = (db: Database, domainId: number, subject: Subject) =>
  db.one<{ at: number; verdict: Verdict }>(
    'SELECT at, verdict FROM finding_change WHERE domain_id = ? AND subject = ? ORDER BY id DESC LIMIT 1',
    domainId,
    subject,
  );

/** Forgets turns of findings before a time, some at once; returns how many went. The last turn of each subject stays: since then it is as it is. */
export async function forgetChanges(db: Database, before: number, most: number): Promise<number> {
  const old = await db.allSlowly<{ id: number }>(
    `SELECT c.id FROM finding_change c WHERE c.at < ? AND EXISTS
       (SELECT 1 FROM finding_change n WHERE n.domain_id IS c.domain_id AND n.subject = c.subject AND n.id > c.id) LIMIT ?`,
    before,
    most,
  );
  return db.commitInPieces(
    old,
    (some) =>
      db.run('DELETE FROM finding_change WHERE id IN (SELECT value FROM json_each(?))', JSON.stringify(some.map((one) => one.id))).changes,
  );
}
