import { isDmarc } from '../dmarc/record.ts';
import type { NextStage } from '../dmarc/stages.ts';
import type { Lookup } from '../records/answers.ts';
import { apexOf, inZone } from '../records/apex.ts';
import { type HostFacts, keyName } from '../records/sheet.ts';
import { isSpf } from '../spf/record.ts';
import type { Policy, Role, Subject } from '../vocabulary.ts';
import { checkDiscovery } from './discovery.ts';
import { type CheckedKey, checkDkim } from './dkim.ts';
import { checkDmarc } from './dmarc.ts';
import type { Scope } from './evidence.ts';
import type { Finding } from './finding.ts';
import { checkMx, checkMxAway, checkMxElsewhere } from './mx.ts';
import { checkReverse } from './reverse.ts';
import { checkSpf } from './spf.ts';
import { type Earlier, underBothViews, type Views } from './views.ts';

export interface CheckFacts {
  domain: string;
  role: Role;
  host: HostFacts;
  keys: readonly CheckedKey[];
  stage: Policy;
  /** Whether mail of the domain leaves from here; by default where its mailboxes are here. */
  sends?: boolean;
  next: NextStage | null;
  /** What the check before came to, and the time of this one, ms: waiting counts down from when it was first seen. */
  earlier?: Earlier | null;
  now?: number;
}

/** Finds out about one domain; `onDone` hears of each subject that is finished. */
export type Check = (facts: CheckFacts, onDone?: (subject: Subject) => void) => Promise<Finding[]>;

/** Checks with these views. */
export const checkWith =
  (views: Views): Check =>
  (facts, onDone) =>
    checkDomain(facts, views, onDone);

/** Every finding of a domain, in the order of the work; of each subject the worst first. `onDone` hears of each subject that is finished. */
export async function checkDomain(facts: CheckFacts, views: Views, onDone: (subject: Subject) => void = () => {}): Promise<Finding[]> {
  const { domain, role, host, keys, stage, next } = facts;
  // Questions that only look whether a record has landed in a wrong place delay nothing once it stands in the right one.
  const at =
    (...names: string[]): Scope['concerns'] =>
    (name) =>
      names.includes(name);
  const own: Scope['concerns'] = (name) => name === domain || name.endsWith(`.${domain}`);
  const signing = keys.filter(({ state }) => state === 'active' || state === 'prepared').map(({ selector }) => keyName(selector, domain));
  const earlier = facts.earlier ?? null;
  const now = facts.now ?? 0;
  const run = async (
    check: (lookup: Lookup) => Promise<Finding[]>,
    concerns: Scope['concerns'],
    isOurs: Scope['isOurs'] = () => true,
  ): Promise<Finding[]> => {
    const findings = await underBothViews(check, views, { concerns, isOurs }, earlier, now);
    onDone(findings[0]?.subject ?? 'mx');
    return findings;
  };
  const { sibling } = views;
  const isSender = facts.sends ?? role === 'home';
  const dmarc = { domain, stage, next, signingDomain: domain, envelopeDomain: domain, sibling };
  const subjects = await Promise.all([
    run((lookup) => checkWayIn(facts, lookup), own),
    run((lookup) => checkSpf({ domain, host: isSender ? host : null, sibling }, lookup), at(domain), isSpf),
    run((lookup) => checkDkim({ domain, keys: isSender ? keys : [], sibling, isSender }, lookup), at(...signing)),
    run((lookup) => checkDmarc(dmarc, lookup), at(`_dmarc.${domain}`), isDmarc),
    ...(isSender
      ? [
          reverseUnderBothViews(host, views, now).then((findings) => {
            onDone('reverse');
            return findings;
          }),
        ]
      : []),
    ...(role === 'home' ? [run((lookup) => checkDiscovery(domain, host, lookup), own)] : []),
  ]);
  const findings = subjects.flat();
  if (!findings.some(({ publish }) => publish.some(({ where }) => where === 'domain'))) return findings;
  const apex = await apexOf(domain, views.source);
  return findings.map((one) => ({ ...one, publish: inZone(one.publish, apex) }));
}

function checkWayIn({ domain, role, host }: CheckFacts, lookup: Lookup): Promise<Finding[]> {
  if (role === 'home') return checkMx(domain, host, lookup);
  return role === 'away' ? checkMxAway(domain, host, lookup) : checkMxElsewhere(domain, role, host, lookup);
}

/** The host's reverse DNS is the same for every domain of a run, so it is looked at once for each pair of views. */
const reverseSeen = new WeakMap<Views, Promise<Finding[]>>();

function reverseUnderBothViews(host: HostFacts, views: Views, now: number): Promise<Finding[]> {
  const seen = reverseSeen.get(views);
  if (seen !== undefined) return seen;
  const findings = underBothViews((lookup) => checkReverse(host, lookup), views, { concerns: () => true, isOurs: () => true }, null, now);
  reverseSeen.set(views, findings);
  return findings;
}
