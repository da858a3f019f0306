import { isIpAddress } from '../../core/address/ip-address.ts';
import { type Check, checkWith } from '../../core/checks/check-domain.ts';
import type { CheckedKey } from '../../core/checks/dkim.ts';
import { type Finding, isWorse, leading, readiness } from '../../core/checks/finding.ts';
import type { Earlier } from '../../core/checks/views.ts';
import { isDmarc, parseDmarc } from '../../core/dmarc/record.ts';
import { type NextStage, nextStage } from '../../core/dmarc/stages.ts';
import { POLICIES, type Policy } from '../../core/vocabulary.ts';
import * as store from '../../store/checks.ts';
import { type Domain, findDomain, seeDmarc, setDmarcStage } from '../../store/domains.ts';
import { addEntry } from '../../store/journeys.ts';
import { listKeys } from '../../store/keys.ts';
import type { Change } from '../base/ports.ts';
import { badInput } from '../base/problem.ts';
import { requireDomain } from '../directory/domains.ts';
import type { DnsDeps } from './deps.ts';
import { hostFor, sendsHere } from './domain-host.ts';

export interface CheckReport {
  domain: string;
  role: Domain['role'];
  checkedAt: number;
  readiness: number | null;
  /** Whether everything is as it should be. */
  good: boolean;
  findings: Finding[];
}

const MINUTE = 60_000;
const HOUR = 60 * MINUTE;
/** A domain that waits for a cache is looked at when it should be over, at most this often and at least this often. */
const SOON = { least: 30_000, most: 3 * MINUTE };
const UNANSWERED = 5 * MINUTE;
/** What is found of one domain waits so long for that of others to be written with. */
const WRITTEN_WITHIN_MS = 10;

/** `address` or `address:port`, IPv6 in brackets when a port follows. */
export function resolverAt(text: string): { address: string; port: number } {
  const found = /^(?:\[([0-9a-fA-F:.]+)\]|([0-9.]+))(?::(\d{1,5}))?$/.exec(text.trim());
  const address = found?.[1] ?? found?.[2] ?? text.trim();
  const port = Number(found?.[3] ?? 53);
  if (!isIpAddress(address) || port < 1 || port > 65_535)
    throw badInput('resolver', `“${text.slice(0, 80)}” is not an address of a resolver.`, 'Write it like 192.0.2.53 or 127.0.0.1:5353.');
  return { address, port };
}

/** Looks at what is published now, keeps the findings, and journals what changed. With `resolver`, only compares with that one and keeps nothing. */
export async function check(
  context: DnsDeps,
  name: string,
  resolver: { address: string; port: number } | null = null,
): Promise<CheckReport> {
  const domain = requireDomain(context, name);
  context.dns.forget();
  if (resolver === null) return (await checkOne(context, domain, checkWith(context.dns.openViews()))).report;
  const found = await look(context, domain, checkWith(context.dns.openViews(resolver)));
  return report(domain, { checkedAt: context.clock.now(), ...found });
}

const isStricter = (one: Policy, other: Policy): boolean => POLICIES.indexOf(one) > POLICIES.indexOf(other);

/** The next stage of the domain's DMARC policy, by the history of its checks. */
export function nextStageOf({ db, clock }: DnsDeps, domain: Domain): NextStage | null {
  const since = (['spf', 'dkim'] as const).map((subject) => {
    const last = store.lastChange(db, domain.id, subject);
    return last?.verdict === 'good' || last?.verdict === 'weak' ? last.at : null;
  });
  const stage = domain.dmarcStage;
  return nextStage(stage, {
    goodSince: since.includes(null) ? null : Math.max(...(since as number[])),
    stageSince: domain.dmarcSeen === stage ? domain.dmarcSeenSince : null,
    now: clock.now(),
  });
}

/** What counts of an earlier finding: the rest is long, and may have a way to go. */
const turnOf = ({ subject, code, verdict, expected, until }: Earlier['findings'][number]) => ({ subject, code, verdict, expected, until });

async function look(
  context: DnsDeps,
  domain: Domain,
  check: Check,
  earlier: Earlier | null = null,
): Promise<{ findings: Finding[]; readiness: number | null }> {
  const { db, keys, signals, clock } = context;
  const proofs = await keys.proofs(domain.id);
  const checked = listKeys(db, domain.id).map(
    ({ selector, type, publicKey, state }): CheckedKey => ({ selector, type, publicKey, state, proof: proofs.get(selector) ?? null }),
  );
  const findings = await check(
    {
      domain: domain.name,
      role: domain.role,
      host: hostFor(context, domain),
      keys: checked,
      stage: domain.dmarcStage,
      sends: sendsHere(context, domain),
      next: nextStageOf(context, domain),
      earlier: earlier && { checkedAt: earlier.checkedAt, findings: earlier.findings.map(turnOf) },
      now: clock.now(),
    },
    (subject) => signals.emit('news', { kind: 'check-step', domain: domain.name, subject }),
  );
  return { findings, readiness: readiness(findings) };
}

/** Checks a domain and writes down what was found, what changed, and when to look again. */
export async function checkOne(context: DnsDeps, domain: Domain, check: Check): Promise<{ report: CheckReport; changes: Change[] }> {
  const { db, clock } = context;
  const earlier = store.findCheck(db, domain.id);
  const found = await look(context, domain, check, earlier);
  const result = { checkedAt: clock.now(), ...found };
  const write = (): Change[] => {
    // It may have been removed while the name servers were asked.
    if (!findDomain(db, domain.name)) return [];
    const noted = noteChanges(context, domain, store.findCheck(db, domain.id, earlier)?.findings ?? null, found.findings);
    store.keepCheck(db, domain.id, result, nextCheckAt(context, found.findings));
    const policy = publishedPolicy(found.findings);
    if (policy !== undefined) seeDmarc(db, domain.id, policy, result.checkedAt);
    // What was reached once is not given up because a record was lost: the sheet goes on proposing it.
    if (policy && isStricter(policy, domain.dmarcStage)) setDmarcStage(db, domain.id, policy);
    return noted;
  };
  const changes = await db.commit(write, { withinMs: WRITTEN_WITHIN_MS, isRepeatable: true });
  tell(context, changes);
  return { report: report(domain, result), changes };
}

/** Live listeners hear of every change. */
export function tell({ signals }: DnsDeps, changes: readonly Change[]): void {
  for (const change of changes) signals.emit('news', { kind: 'finding-changed', ...change });
}

/** Writes the turns of each subject into history and journal; null as `before` for the first look. Only inside `commit`. */
export function noteChanges(
  { db, clock }: DnsDeps,
  domain: { id: number; name: string } | null,
  before: readonly Finding[] | null,
  now: readonly Finding[],
): Change[] {
  const changes: Change[] = [];
  const earlier = leading(before ?? []);
  for (const one of leading(now)) {
    const past = earlier.find((other) => other.subject === one.subject);
    if (past?.code === one.code && past.verdict === one.verdict) continue;
    const at = clock.now();
    const { subject, verdict, code, headline } = one;
    store.addChange(db, domain?.id ?? null, {
      at,
      subject,
      verdict,
      code,
      headline,
      beforeVerdict: past?.verdict ?? null,
      beforeCode: past?.code ?? null,
    });
    if (before === null) continue;
    changes.push({ domain: domain?.name ?? null, subject, verdict, before: past?.verdict ?? null, headline });
    addEntry(db, {
      at,
      journeyId: null,
      domain: domain?.name ?? null,
      event: 'finding-changed',
      data: { subject, verdict, code, headline, before: past?.verdict ?? null, worse: isWorse(verdict, past?.verdict ?? null) },
    });
  }
  return changes;
}

/** Hourly, a little apart from the others; soon while a cache is waited for. */
export function nextCheckAt({ clock, checkEveryMs, random }: DnsDeps, findings: readonly Finding[]): number {
  const waits = findings.flatMap((one) => (one.verdict === 'waiting' ? [(one.secondsLeft ?? 0) * 1000 + 1000] : []));
  const wait =
    waits.length > 0
      ? Math.min(Math.max(Math.min(...waits), SOON.least), SOON.most)
      : findings.some((one) => one.verdict === 'unknown')
        ? UNANSWERED
        : (checkEveryMs || HOUR) * (0.85 + 0.3 * random());
  return Math.floor(clock.steady() + wait);
}

/** The policy that was seen in DNS; null for none, undefined when nothing can be said. */
function publishedPolicy(findings: readonly Finding[]): Policy | null | undefined {
  const one = leading(findings).find((finding) => finding.subject === 'dmarc');
  // Where servers disagree, nobody can say which of them is right.
  if (!one || one.verdict === 'unknown' || one.verdict === 'waiting' || one.code === 'dmarc-disagree') return undefined;
  const parsed = parseDmarc((one.code === 'dmarc-late' ? one.expected : one.seen).find(isDmarc) ?? '');
  return parsed.kind === 'ok' ? parsed.record.policy : null;
}

const report = (domain: Domain, { checkedAt, readiness, findings }: store.CheckResult): CheckReport => ({
  domain: domain.name,
  role: domain.role,
  checkedAt,
  readiness,
  good: findings.every((one) => one.verdict === 'good'),
  findings,
});

/** The findings of the last check; null when there was none. */
export function lastCheck(context: DnsDeps, name: string): CheckReport | null {
  const domain = requireDomain(context, name);
  const kept = store.findCheck(context.db, domain.id);
  return kept && report(domain, kept);
}

/** How the domain's findings have turned, newest first. */
export function checkHistory(context: DnsDeps, name: string, asked: store.ChangesAsked = { limit: 500 }): store.FindingChange[] {
  return store.listChanges(context.db, requireDomain(context, name).id, asked);
}
