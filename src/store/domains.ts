import type { Finding, Subject, Verdict } from '../core/checks/finding.ts';
import type { Role } from '../core/routing/recipients.ts';
import type { Database } from './database.ts';

export interface Domain {
  id: number;
  name: string;
  customer: string;
  plan: string;
  planId: number;
  role: Role;
  hourLimit: number | null;
  dayLimit: number | null;
  mostMailboxes: number;
  quotaBytes: number;
  createdAt: number;
}

/** A row of the list of domains. */
export interface DomainRow extends Domain {
  mailboxes: number;
  usedBytes: number;
  checkedAt: number | null;
  readiness: number | null;
  mx: Verdict | null;
  spf: Verdict | null;
  dkim: Verdict | null;
  dmarc: Verdict | null;
  reverse: Verdict | null;
}

const COLUMNS = `d.id, d.name, c.name AS customer, p.name AS plan, d.plan_id AS planId, d.role, d.hour_limit AS hourLimit, d.day_limit AS dayLimit,
  p.most_mailboxes AS mostMailboxes, p.quota_bytes AS quotaBytes, d.created_at AS createdAt`;
const FROM = 'FROM domain d JOIN customer c ON c.id = d.customer_id JOIN plan p ON p.id = d.plan_id';

export const findDomain = (db: Database, name: string) => db.one<Domain>(`SELECT ${COLUMNS} ${FROM} WHERE d.name = ?`, name);
export const allDomainNames = (db: Database): string[] =>
  db.all<{ name: string }>('SELECT name FROM domain ORDER BY name').map((row) => row.name);

/** What the hot path needs of a domain, in one small look-up. */
export interface DomainLimits {
  id: number;
  role: Role;
  hour: number | null;
  day: number | null;
}
export const findDomainLimits = (db: Database, name: string) =>
  db.one<DomainLimits>('SELECT id, role, hour_limit AS hour, day_limit AS day FROM domain WHERE name = ?', name);

const ROW = `SELECT ${COLUMNS}, (SELECT count(*) FROM mailbox m WHERE m.domain_id = d.id) AS mailboxes,
    (SELECT coalesce(sum(m.used_bytes), 0) FROM mailbox m WHERE m.domain_id = d.id) AS usedBytes,
    r.checked_at AS checkedAt, r.readiness, r.mx, r.spf, r.dkim, r.dmarc, r.reverse
  ${FROM} LEFT JOIN check_result r ON r.domain_id = d.id`;

export const findDomainRow = (db: Database, id: number) => db.one<DomainRow>(`${ROW} WHERE d.id = ?`, id);

const SORTS = {
  name: 'd.name',
  customer: 'c.name, d.name',
  readiness: 'coalesce(r.readiness, -1), d.name',
  mailboxes: 'mailboxes DESC, d.name',
  storage: 'usedBytes DESC, d.name',
} as const;
export type DomainSort = keyof typeof SORTS;

export interface DomainQuery {
  search: string;
  customer: string | null;
  sort: DomainSort;
  offset: number;
  limit: number;
}

export function listDomains(db: Database, query: DomainQuery): { total: number; rows: DomainRow[] } {
  const where = `WHERE (? = '' OR d.name LIKE ? ESCAPE '\\' OR c.name LIKE ? ESCAPE '\\') AND (? IS NULL OR c.name = ?)`;
  const pattern = `%${query.search.replace(/[\\%_]/g, '\\$&')}%`;
  const values = [query.search, pattern, pattern, query.customer, query.customer];
  const total = db.one<{ total: number }>(`SELECT count(*) AS total ${FROM} ${where}`, ...values)?.total ?? 0;
  const rows = db.all<DomainRow>(`${ROW} ${where} ORDER BY ${SORTS[query.sort]} LIMIT ? OFFSET ?`, ...values, query.limit, query.offset);
  return { total, rows };
}

export interface NewDomain {
  name: string;
  customerId: number;
  planId: number;
  role: Role;
  hourLimit: number | null;
  dayLimit: number | null;
}

export function addDomain(db: Database, domain: NewDomain, now: number): number {
  return db.run(
    'INSERT INTO domain (name, customer_id, plan_id, role, hour_limit, day_limit, created_at) VALUES (?, ?, ?, ?, ?, ?, ?)',
    domain.name,
    domain.customerId,
    domain.planId,
    domain.role,
    domain.hourLimit,
    domain.dayLimit,
    now,
  ).id;
}

export function changeDomain(db: Database, id: number, values: Omit<NewDomain, 'name'>): void {
  db.run(
    'UPDATE domain SET customer_id = ?, plan_id = ?, role = ?, hour_limit = ?, day_limit = ? WHERE id = ?',
    values.customerId,
    values.planId,
    values.role,
    values.hourLimit,
    values.dayLimit,
    id,
  );
}

export const removeDomain = (db: Database, id: number) => db.run('DELETE FROM domain WHERE id = ?', id);

export interface DkimKey {
  selector: string;
  publicKey: string;
  createdAt: number;
}

export const findKey = (db: Database, domainId: number) =>
  db.one<DkimKey>(
    'SELECT selector, public_key AS publicKey, created_at AS createdAt FROM dkim_key WHERE domain_id = ? ORDER BY id DESC LIMIT 1',
    domainId,
  );
/** The private key as PEM; it never leaves the service. */
export const findPrivateKey = (db: Database, domainId: number) =>
  db.one<{ selector: string; pem: string }>(
    'SELECT selector, private_key AS pem FROM dkim_key WHERE domain_id = ? ORDER BY id DESC LIMIT 1',
    domainId,
  );

export function addKey(
  db: Database,
  domainId: number,
  key: { selector: string; privateKey: string; publicKey: string },
  now: number,
): void {
  db.run(
    'INSERT INTO dkim_key (domain_id, selector, private_key, public_key, created_at) VALUES (?, ?, ?, ?, ?)',
    domainId,
    key.selector,
    key.privateKey,
    key.publicKey,
    now,
  );
}

export interface CheckResult {
  checkedAt: number;
  readiness: number | null;
  findings: Finding[];
}

export function findCheck(db: Database, domainId: number): CheckResult | null {
  const row = db.one<{ checkedAt: number; readiness: number | null; findings: string }>(
    'SELECT checked_at AS checkedAt, readiness, findings FROM check_result WHERE domain_id = ?',
    domainId,
  );
  return row ? { ...row, findings: JSON.parse(row.findings) } : null;
}

export function keepCheck(db: Database, domainId: number, result: CheckResult): void {
  const verdict = (subject: Subject) => result.findings.find((one) => one.subject === subject)?.verdict ?? null;
  db.run(
    `INSERT OR REPLACE INTO check_result (domain_id, checked_at, readiness, mx, spf, dkim, dmarc, reverse, findings)
     SELECT id, ?, ?, ?, ?, ?, ?, ?, ? FROM domain WHERE id = ?`,
    result.checkedAt,
    result.readiness,
    verdict('mx'),
    verdict('spf'),
    verdict('dkim'),
    verdict('dmarc'),
    verdict('reverse'),
    JSON.stringify(result.findings),
    domainId,
  );
}

/** A changed key, host or role makes an old result untrue. */
export const forgetCheck = (db: Database, domainId: number) => db.run('DELETE FROM check_result WHERE domain_id = ?', domainId);
