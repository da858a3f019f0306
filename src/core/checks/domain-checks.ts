import { isDmarc } from '../dmarc/record.ts';
import type { NextStage } from '../dmarc/stages.ts';
import type { Lookup } from '../records/answers.ts';
import { type HostFacts, keyName } from '../records/sheet.ts';
import { isSpf } from '../spf/record.ts';
import type { Policy, Role, Subject } from '../vocabulary.ts';
import { checkDiscovery } from './discovery.ts';
import { type CheckedKey, checkDkim } from './dkim.ts';
import { checkDmarc } from './dmarc.ts';
import type { Finding } from './finding.ts';
import { checkMx, checkMxAway, checkMxElsewhere } from './mx.ts';
import { checkReverse } from './reverse.ts';
import { checkSpf } from './spf.ts';
import type { Earlier, Views } from './views.ts';

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

/** A check of a subject; what it is worth and called is in the vocabulary. */
export interface DomainCheck {
  subject: Subject;
  isFor(facts: CheckFacts): boolean;
  /** Whether its findings are those of the host, and so the same for every domain. */
  isOfHost?: true;
  /** Names whose old answers in caches delay it; `all` for the domain and all below it. Questions whether a record has landed in a wrong place delay nothing. */
  names(facts: CheckFacts): readonly string[] | 'all';
  /** Whether a text at such a name is one of this subject. */
  isOurs?: (text: string) => boolean;
  run(facts: CheckFacts, lookup: Lookup, sibling: Views['sibling']): Promise<Finding[]>;
}

const isSender = ({ sends, role }: CheckFacts): boolean => sends ?? role === 'home';
const always = (): boolean => true;

/** Every check of a domain, in the order in which its faults are mended. */
export const DOMAIN_CHECKS: readonly DomainCheck[] = [
  {
    subject: 'mx',
    isFor: always,
    names: () => 'all',
    run: ({ domain, role, host }, lookup) =>
      role === 'home'
        ? checkMx(domain, host, lookup)
        : role === 'away'
          ? checkMxAway(domain, host, lookup)
          : checkMxElsewhere(domain, role, host, lookup),
  },
  {
    subject: 'spf',
    isFor: always,
    names: ({ domain }) => [domain],
    isOurs: isSpf,
    run: (facts, lookup, sibling) => checkSpf({ domain: facts.domain, host: isSender(facts) ? facts.host : null, sibling }, lookup),
  },
  {
    subject: 'dkim',
    isFor: always,
    names: ({ domain, keys }) =>
      keys.filter(({ state }) => state === 'active' || state === 'prepared').map(({ selector }) => keyName(selector, domain)),
    run: (facts, lookup, sibling) =>
      checkDkim({ domain: facts.domain, keys: isSender(facts) ? facts.keys : [], sibling, isSender: isSender(facts) }, lookup),
  },
  {
    subject: 'dmarc',
    isFor: always,
    names: ({ domain }) => [`_dmarc.${domain}`],
    isOurs: isDmarc,
    run: ({ domain, stage, next }, lookup, sibling) =>
      checkDmarc({ domain, stage, next, signingDomain: domain, envelopeDomain: domain, sibling }, lookup),
  },
  { subject: 'reverse', isFor: isSender, isOfHost: true, names: () => 'all', run: ({ host }, lookup) => checkReverse(host, lookup) },
  {
    subject: 'discovery',
    isFor: ({ role }) => role === 'home',
    names: () => 'all',
    run: ({ domain, host }, lookup) => checkDiscovery(domain, host, lookup),
  },
];
