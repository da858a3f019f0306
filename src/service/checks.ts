import { checkDomain } from '../core/checks/check-domain.ts';
import { type Finding, readiness, type Verdict } from '../core/checks/finding.ts';
import { checkReverse } from '../core/checks/reverse.ts';
import { composeSheet, hostRecords, type SheetRecord } from '../core/records/sheet.ts';
import { zoneFile } from '../core/records/zone-file.ts';
import { allDomainNames, type Domain, findCheck, findKey, keepCheck } from '../store/domains.ts';
import { addEntry } from '../store/journeys.ts';
import type { ServiceContext } from './context.ts';
import { requireDomain } from './domains.ts';
import { Problem } from './problem.ts';

/** Domains that are checked at the same time. */
const AT_ONCE = 16;

export interface CheckReport {
  domain: string;
  role: Domain['role'];
  checkedAt: number;
  readiness: number | null;
  /** Whether everything is as it should be. */
  good: boolean;
  findings: Finding[];
}

function requireKey({ db }: ServiceContext, domain: Domain) {
  const key = findKey(db, domain.id);
  if (!key) throw new Error(`${domain.name} has no key`);
  return key;
}

function requireCheckable(domain: Domain): 'home' | 'away' {
  if (domain.role === 'home' || domain.role === 'away') return domain.role;
  throw new Problem(
    'not-yet',
    `${domain.name} has the role ${domain.role}, whose records can’t be checked yet.`,
    'Domains with the roles home and away can be checked.',
  );
}

/** The record sheet of a domain whose mail lives here. */
export function recordSheet(context: ServiceContext, name: string): { domain: string; records: SheetRecord[]; zone: string } {
  const domain = requireDomain(context, name);
  if (domain.role !== 'home')
    throw new Problem(
      'not-yet',
      `${domain.name} has the role ${domain.role}; only a domain with the role home has a record sheet yet.`,
      'Give it the role home, if its mail is to live here.',
    );
  const records = composeSheet({ domain: domain.name, host: context.host, keys: [requireKey(context, domain)] });
  return { domain: domain.name, records, zone: zoneFile(domain.name, records) };
}

/** Looks at what is published now, keeps the findings, and journals what changed. */
export async function check(context: ServiceContext, name: string): Promise<CheckReport> {
  const domain = requireDomain(context, name);
  requireCheckable(domain);
  context.forgetAnswers();
  return checkOne(context, domain);
}

async function checkOne(context: ServiceContext, domain: Domain): Promise<CheckReport> {
  const { db, clock, host, lookup } = context;
  const role = requireCheckable(domain);
  const findings = await checkDomain({ domain: domain.name, role, host, key: requireKey(context, domain) }, lookup);
  const result = { checkedAt: clock.now(), readiness: readiness(findings), findings };
  await db.commit(() => {
    const before = new Map((findCheck(db, domain.id)?.findings ?? []).map((one) => [one.subject, one.code]));
    for (const one of findings)
      if (before.size > 0 && before.get(one.subject) !== one.code)
        addEntry(db, {
          at: result.checkedAt,
          journeyId: null,
          domain: domain.name,
          event: 'finding-changed',
          data: { subject: one.subject, verdict: one.verdict, code: one.code, before: before.get(one.subject) ?? null },
        });
    keepCheck(db, domain.id, result);
  });
  return report(domain, result);
}

const report = (domain: Domain, result: { checkedAt: number; readiness: number | null; findings: Finding[] }): CheckReport => ({
  domain: domain.name,
  role: domain.role,
  ...result,
  good: result.findings.every((one) => one.verdict === 'good'),
});

/** The findings of the last check; null when there was none. */
export function lastCheck(context: ServiceContext, name: string): CheckReport | null {
  const domain = requireDomain(context, name);
  const kept = findCheck(context.db, domain.id);
  return kept && report(domain, kept);
}

export interface CheckSummary {
  checkedAt: number;
  /** How many findings have each verdict. */
  verdicts: Partial<Record<Verdict, number>>;
  domains: {
    domain: string;
    role: Domain['role'];
    readiness: number | null;
    good: boolean;
    findings: Pick<Finding, 'subject' | 'verdict' | 'headline' | 'code'>[];
  }[];
  /** Domains whose role can't be checked yet. */
  leftOut: string[];
}

/** Checks every domain, some at a time, with one cache between them. */
export async function checkAll(context: ServiceContext): Promise<CheckSummary> {
  context.forgetAnswers();
  const summary: CheckSummary = { checkedAt: context.clock.now(), verdicts: {}, domains: [], leftOut: [] };
  const names = allDomainNames(context.db);
  const worker = async (): Promise<void> => {
    for (let name = names.shift(); name !== undefined; name = names.shift()) {
      const domain = requireDomain(context, name);
      if (domain.role !== 'home' && domain.role !== 'away') {
        summary.leftOut.push(name);
        continue;
      }
      const { findings, readiness: points, good } = await checkOne(context, domain);
      for (const one of findings) summary.verdicts[one.verdict] = (summary.verdicts[one.verdict] ?? 0) + 1;
      summary.domains.push({
        domain: name,
        role: domain.role,
        readiness: points,
        good,
        findings: findings.map(({ subject, verdict, headline, code }) => ({ subject, verdict, headline, code })),
      });
    }
  };
  await Promise.all(Array.from({ length: AT_ONCE }, worker));
  summary.domains.sort((one, other) => (one.domain < other.domain ? -1 : 1));
  return summary;
}

export interface HostReport {
  name: string;
  addresses: readonly string[];
  postmaster: string;
  records: SheetRecord[];
  reverse: Finding;
}

/** The host's own records and its reverse DNS as it is now. */
export async function hostReport({ host, lookup }: ServiceContext): Promise<HostReport> {
  return {
    name: host.name,
    addresses: host.addresses,
    postmaster: host.postmaster,
    records: hostRecords(host),
    reverse: await checkReverse(host, lookup),
  };
}
