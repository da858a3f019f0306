import { isDmarc, type Policy } from '../dmarc/record.ts';
import type { NextStage } from '../dmarc/stages.ts';
import type { Lookup } from '../records/answers.ts';
import { type HostFacts, keyName } from '../records/sheet.ts';
import type { Role } from '../routing/recipients.ts';
import { isSpf } from '../spf/record.ts';
import { type CheckedKey, checkDkim } from './dkim.ts';
import { checkDmarc } from './dmarc.ts';
import { contents, evidenceOf, findStale, MOST_QUESTIONS, recording, type Scope, type Stale } from './evidence.ts';
import { type Finding, type FindingDraft, type Subject, settle } from './finding.ts';
import { checkMx, checkMxAway, checkMxElsewhere } from './mx.ts';
import { checkReverse } from './reverse.ts';
import { checkSpf } from './spf.ts';

const MOST_SHOWN = 20;

export interface CheckFacts {
  domain: string;
  role: Role;
  host: HostFacts;
  keys: readonly CheckedKey[];
  stage: Policy;
  next: NextStage | null;
}

/** Where the truth is asked for, and where it may be late. */
export interface Views {
  /** The zones' own name servers. */
  source: Lookup;
  /** The configured resolvers, each by itself. */
  caches: readonly Lookup[];
}

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
  const run = async (
    check: (lookup: Lookup) => Promise<Finding[]>,
    concerns: Scope['concerns'],
    isOurs: Scope['isOurs'] = () => true,
  ): Promise<Finding[]> => {
    const findings = await underBothViews(check, views, { concerns, isOurs });
    onDone(findings[0]?.subject ?? 'mx');
    return findings;
  };
  if (role === 'pass-on' || role === 'standby') return run((lookup) => checkMxElsewhere(domain, role, host, lookup), own);
  if (role === 'away') return run((lookup) => checkMxAway(domain, host, lookup), own);
  const dmarc = { domain, stage, next, signingDomain: domain, envelopeDomain: domain };
  const subjects = await Promise.all([
    run((lookup) => checkMx(domain, host, lookup), own),
    run((lookup) => checkSpf(domain, host, lookup), at(domain), isSpf),
    run((lookup) => checkDkim(domain, keys, lookup), at(...signing)),
    run((lookup) => checkDmarc(dmarc, lookup), at(`_dmarc.${domain}`), isDmarc),
    reverseUnderBothViews(host, views).then((findings) => {
      onDone('reverse');
      return findings;
    }),
  ]);
  return subjects.flat();
}

/** The host's reverse DNS is the same for every domain of a run, so it is looked at once for each pair of views. */
const reverseSeen = new WeakMap<Views, Promise<Finding[]>>();

function reverseUnderBothViews(host: HostFacts, views: Views): Promise<Finding[]> {
  const seen = reverseSeen.get(views);
  if (seen !== undefined) return seen;
  const findings = underBothViews((lookup) => checkReverse(host, lookup), views, { concerns: () => true, isOurs: () => true });
  reverseSeen.set(views, findings);
  return findings;
}

/**
 * Judges what the source says; where that is well and a resolver still holds something else, the finding is `waiting`.
 * What is wrong at the source is wrong, whatever the caches hold.
 */
export async function underBothViews(
  check: (lookup: Lookup) => Promise<Finding[]>,
  { source, caches }: Views,
  scope: Scope,
): Promise<Finding[]> {
  const { lookup, recorded, spent } = recording(source);
  const checked = await check(lookup);
  const findings = spent() ? tooMuch(checked) : checked;
  const { stale, asked } = await findStale(recorded, caches, scope);
  const evidence = [...recorded, ...asked].map(evidenceOf);
  const [first] = findings;
  const settled = findings.every((one) => one.verdict === 'good' || one.verdict === 'weak');
  const judged = first && settled && stale.length > 0 ? waiting(first, findings, stale, scope) : findings;
  return judged.map((one) => ({ ...one, evidence }));
}

/** The check of a subject came to its end before it was done: nothing good is said of it, and nothing is proposed that rests on half of it. */
function tooMuch(findings: readonly Finding[]): Finding[] {
  const [first] = findings;
  if (!first) return [];
  const draft: FindingDraft = {
    code: `${first.subject}-too-much`,
    verdict: 'wrong',
    headline: `What is published asks for more than ${MOST_QUESTIONS} questions to name servers; the check ended there.`,
    remedy: 'Have the record made shorter. Until then it can’t be judged as a whole, by us or by others.',
  };
  return settle({ ...first, seen: first.seen.slice(0, MOST_SHOWN) }, [draft], draft);
}

function waiting(first: Finding, findings: readonly Finding[], stale: readonly Stale[], { isOurs }: Scope): Finding[] {
  const secondsLeft = Math.max(...stale.map((one) => one.secondsLeft));
  const holders = [...new Set(stale.map(({ cached }) => cached.answer.by ?? 'a resolver'))];
  const [one] = stale;
  const draft: FindingDraft = {
    code: `${first.subject}-waiting` as FindingDraft['code'],
    verdict: 'waiting',
    headline: `Right at the source; ${holders.join(' and ')} still ${holders.length === 1 ? 'holds' : 'hold'} the old answer.`,
    name: one?.source.name ?? first.name,
    expected: [...new Set(stale.flatMap(({ source }) => contents(source, isOurs)))],
    seen: [...new Set(stale.flatMap(({ cached }) => contents(cached, isOurs)))],
    remedy: 'Nothing to type: wait. It is looked at again by itself (tenedor check --wait stays until then).',
    secondsLeft,
  };
  const weak: FindingDraft[] = findings
    .filter((finding) => finding.verdict === 'weak')
    .map(({ code, verdict, headline, remedy, name, expected, seen, publish }) => ({
      code,
      verdict,
      headline,
      remedy,
      name,
      expected,
      seen,
      publish,
    }));
  return settle(first, [draft, ...weak], draft);
}
