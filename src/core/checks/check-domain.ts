import { apexOf, inZone } from '../records/apex.ts';
import type { Subject } from '../vocabulary.ts';
import { type CheckFacts, DOMAIN_CHECKS, type DomainCheck } from './domain-checks.ts';
import type { Scope } from './evidence.ts';
import type { Finding } from './finding.ts';
import { underBothViews, type Views } from './views.ts';

/** Finds out about one domain; `onDone` hears of each subject that is finished. */
export type Check = (facts: CheckFacts, onDone?: (subject: Subject) => void) => Promise<Finding[]>;

/** Checks with these views. */
export const checkWith =
  (views: Views): Check =>
  (facts, onDone) =>
    checkDomain(facts, views, onDone);

/** Every finding of a domain, in the order of DOMAIN_CHECKS; of each subject the worst first. `onDone` hears of each subject that is finished. */
export async function checkDomain(facts: CheckFacts, views: Views, onDone: (subject: Subject) => void = () => {}): Promise<Finding[]> {
  const earlier = facts.earlier ?? null;
  const now = facts.now ?? 0;
  const subjects = await Promise.all(
    DOMAIN_CHECKS.filter((one) => one.isFor(facts)).map(async (one) => {
      const findings = one.isOfHost
        ? await seenOnce(one, facts, views, now)
        : await underBothViews((lookup) => one.run(facts, lookup, views.sibling), views, scopeOf(one, facts), earlier, now);
      onDone(one.subject);
      return findings;
    }),
  );
  const findings = subjects.flat();
  if (!findings.some(({ publish }) => publish.some(({ where }) => where === 'domain'))) return findings;
  const apex = await apexOf(facts.domain, views.source);
  return findings.map((one) => ({ ...one, publish: inZone(one.publish, apex) }));
}

function scopeOf(check: DomainCheck, facts: CheckFacts): Scope {
  const names = check.names(facts);
  const { domain } = facts;
  return {
    concerns: names === 'all' ? (name) => name === domain || name.endsWith(`.${domain}`) : (name) => names.includes(name),
    isOurs: check.isOurs ?? (() => true),
  };
}

/** What is of the host is the same for every domain of a run, so it is looked at once for each pair of views. */
const hostSeen = new WeakMap<Views, Map<Subject, Promise<Finding[]>>>();

function seenOnce(check: DomainCheck, facts: CheckFacts, views: Views, now: number): Promise<Finding[]> {
  const seen = hostSeen.get(views) ?? new Map<Subject, Promise<Finding[]>>();
  hostSeen.set(views, seen);
  const before = seen.get(check.subject);
  if (before !== undefined) return before;
  const everything: Scope = { concerns: () => true, isOurs: () => true };
  const findings = underBothViews((lookup) => check.run(facts, lookup, views.sibling), views, everything, null, now);
  seen.set(check.subject, findings);
  return findings;
}
