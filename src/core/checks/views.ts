import { type Lookup, type SoaValue, valueText } from '../records/answers.ts';
import { zoneAbove } from '../records/apex.ts';
import type { Subject } from '../vocabulary.ts';
import { contents, evidenceOf, findStale, MOST_QUESTIONS, type Recorded, recording, type Scope, type Stale } from './evidence.ts';
import { type Finding, type FindingDraft, settledFindings } from './finding.ts';

/** Where the truth is asked for, and where it may be late. */
export interface Views {
  /** The zones' own name servers: the first of each that answers. */
  source: Lookup;
  /** The second, third … name server of each zone by itself. */
  further: readonly Lookup[];
  /** The configured resolvers, each by itself. */
  caches: readonly Lookup[];
  /** A label that nobody has: what a name made with it finds is a wildcard's. */
  sibling: string;
}

/** What an earlier check of the subject came to. */
export interface Earlier {
  checkedAt: number;
  findings: readonly Pick<Finding, 'subject' | 'code' | 'verdict' | 'expected' | 'until'>[];
}

const MOST_SHOWN = 20;
/** What a wait may take beyond its time: a resolver may be several, each with the answer from another moment. */
const PATIENCE_MS = 10 * 60_000;
/** A second name server that is told of changes has them in seconds, one that asks for them after the zone's refresh time; longer is a fault. */
const LONGEST_LAG_S = 3600;

/**
 * Judges what the source says. Where that is well and a resolver still says something else, the finding is `waiting`, until the time is over that this
 * may take. What is wrong at the source is wrong, whatever caches hold. Where the zone's own name servers differ, see `apart`.
 */
export async function underBothViews(
  check: (lookup: Lookup) => Promise<Finding[]>,
  { source, further, caches }: Views,
  scope: Scope,
  earlier: Earlier | null = null,
  now = 0,
): Promise<Finding[]> {
  const { lookup, recorded, spent } = recording(source);
  const checked = await check(lookup);
  const findings = spent() ? tooMuch(checked) : behindAlias(checked, recorded);
  const [others, cached] = await Promise.all([findStale(recorded, further, scope), findStale(recorded, caches, scope)]);
  const evidence = [...recorded, ...others.asked, ...cached.asked].map(evidenceOf);
  const [first] = findings;
  const since = { subject: first?.subject ?? 'mx', earlier, now };
  const isApart = first !== undefined && others.stale.length > 0;
  let judged = isApart ? await apart({ check, source, scope }, findings, others.stale, since) : findings;
  if (first && judged === findings && isSettled(findings) && cached.stale.length > 0)
    judged = waiting(first, findings, cached.stale, scope, Math.max(...cached.stale.map((one) => one.secondsLeft)), since);
  return judged.map((one) => ({ ...one, evidence }));
}

const isSettled = (findings: readonly Finding[]): boolean => findings.every((one) => one.verdict === 'good' || one.verdict === 'weak');

interface Asking {
  check: (lookup: Lookup) => Promise<Finding[]>;
  source: Lookup;
  scope: Scope;
}

/** What would be found if another name server of the zone were right. */
const findingsBy = ({ check, source, scope }: Asking, other: Lookup): Promise<Finding[]> => {
  const mixed: Lookup = async (name, type) => {
    const answer = scope.concerns(name) ? await other(name, type) : null;
    return answer === null || answer.kind === 'failed' ? source(name, type) : answer;
  };
  return check(recording(mixed).lookup);
};

/** RFC 1982 §3.2: whether one serial comes after another. */
const isNewer = (one: number, other: number): boolean => ((one - other) | 0) > 0;

interface Since {
  subject: Subject;
  earlier: Earlier | null;
  now: number;
}

/**
 * The zone's name servers differ. The newest serial is the truth: where that is wrong, it is wrong; where it is well, the others lag, for a while after a change.
 * Different contents under one serial, or a lag without an end, are a finding of their own, unless it is wrong at all of them.
 */
async function apart(asking: Asking, findings: Finding[], stale: readonly Stale[], since: Since): Promise<Finding[]> {
  const { source, scope } = asking;
  const first = findings[0] as Finding;
  const compared: Compared[] = await Promise.all(
    stale.map(async (one) => ({
      one,
      here: (await zoneAbove(one.source.name, source))?.soa ?? null,
      there: (await zoneAbove(one.source.name, one.lookup))?.soa ?? null,
    })),
  );
  const isNumbered = compared.some(({ here, there }) => here !== null && there !== null && here.serial === there.serial);
  const newer = compared.find(({ here, there }) => here !== null && there !== null && isNewer(there.serial, here.serial));
  const theirs = newer ? await findingsBy(asking, newer.one.lookup) : null;
  if (!isNumbered) {
    const truth = theirs ?? findings;
    // The names of the servers that lag, seen from the one that is right.
    const lagging = newer
      ? stale.filter((one) => one.lookup === newer.one.lookup).map((one) => ({ ...one, source: one.cached, cached: one.source }))
      : stale;
    if (!isSettled(truth)) {
      if (newer || compared.every(({ here, there }) => here !== null && there !== null)) return truth;
    } else if (since.earlier?.findings.find((one) => one.subject === first.subject)?.code !== `${first.subject}-disagree`) {
      const lag = Math.min(LONGEST_LAG_S, Math.max(60, ...compared.map(({ here }) => here?.refresh ?? 0)));
      const waits = waiting(first, truth, lagging, scope, lag, since);
      if (waits[0]?.verdict === 'waiting') return waits;
    }
  }
  const isWell = isSettled(findings) || (theirs !== null && isSettled(theirs)) || (await isAnyWell(asking, stale));
  return isWell ? disagreement(first, compared, isNumbered) : findings;
}

interface Compared {
  one: Stale;
  here: SoaValue | null;
  there: SoaValue | null;
}

async function isAnyWell(asking: Asking, stale: readonly Stale[]): Promise<boolean> {
  for (const other of new Set(stale.map((one) => one.lookup))) if (isSettled(await findingsBy(asking, other))) return true;
  return false;
}

function disagreement(first: Finding, compared: readonly Compared[], isNumbered: boolean): Finding[] {
  const line = ({ name, type, answer }: Recorded, soa: SoaValue | null): string =>
    `${answer.by ?? 'a name server'}${soa === null ? '' : ` (serial ${soa.serial})`}: ${type} ${name} is ${
      answer.kind === 'found' ? answer.values.map(valueText).join(' | ') : 'not there'
    }`;
  const seen = [...new Set(compared.flatMap(({ one, here, there }) => [line(one.source, here), line(one.cached, there)]))];
  const draft: FindingDraft = {
    code: `${first.subject}-disagree`,
    verdict: 'wrong',
    headline: `The zone’s name servers disagree about ${[...new Set(compared.map(({ one }) => one.source.name))].slice(0, 3).join(', ')}.`,
    expected: ['the same answer from each name server'],
    seen: seen.slice(0, MOST_SHOWN),
    remedy: `Ask the operator of the zone’s name servers why they differ${
      isNumbered ? '; they give different answers under one serial' : ''
    }. No record needs changing.`,
  };
  return settledFindings(first, [draft], draft);
}

/** The check of a subject came to its end before it was done: nothing good is said of it, and nothing is proposed that rests on half of it. */
function tooMuch(findings: readonly Finding[]): Finding[] {
  const [first] = findings;
  if (!first) return [];
  const draft: FindingDraft = {
    code: `${first.subject}-too-much`,
    verdict: 'wrong',
    headline: `The published records need more than ${MOST_QUESTIONS} DNS queries; the check stopped there.`,
    remedy: 'Shorten the record. Until then, it cannot be evaluated, here or elsewhere.',
  };
  return settledFindings({ ...first, seen: first.seen.slice(0, MOST_SHOWN) }, [draft], draft);
}

/** A record that is to be typed can't stand beside an alias (RFC 2181 §10.1), nor below a DNAME (RFC 6672 §2.4): then that is the finding. */
function behindAlias(findings: readonly Finding[], recorded: readonly Recorded[]): Finding[] {
  return findings.map((one) => {
    for (const { name, type } of one.publish) {
      if (one.subject === 'reverse' || one.verdict === 'good') continue;
      const asked = recorded.find((question) => question.name === name && (question.type as string) === type)?.answer;
      if (!asked || asked.kind === 'failed' || !asked.alias) continue;
      const isAbove = asked.dname !== undefined && asked.dname !== name;
      return {
        ...one,
        code: `${one.subject}-behind-alias`,
        verdict: 'wrong',
        earned: 0,
        headline: isAbove
          ? `${name} lies below the DNAME of ${asked.dname}, which points to ${asked.alias}: no record can be published there.`
          : `${name} is an alias (CNAME) of ${asked.alias}, and an alias allows no other record.`,
        ...forWhoeverRunsDns(
          `${one.headline} Have the ${isAbove ? `DNAME of ${asked.dname}` : 'CNAME'} removed and the record below published; or have it published at ${asked.alias}, if only this domain uses that name.`,
        ),
      };
    }
    return one;
  });
}

/** Somebody still says what was so before. It counts down from when it was first seen; when that is over, it is no lag. */
function waiting(
  first: Finding,
  findings: readonly Finding[],
  stale: readonly Stale[],
  { isOurs }: Scope,
  seconds: number,
  { subject, earlier, now }: Since,
): Finding[] {
  const holders = [...new Set(stale.map(({ cached }) => cached.answer.by ?? 'a resolver'))];
  const expected = [...new Set(stale.flatMap(({ source }) => contents(source, isOurs)))];
  const seen = [...new Set(stale.flatMap(({ cached }) => contents(cached, isOurs)))];
  const before = earlier?.findings.find((one) => one.subject === subject);
  const isSame = before !== undefined && before.expected.join('\n') === expected.join('\n');
  const until = (isSame && before.verdict === 'waiting' ? before.until : null) ?? now + seconds * 1000;
  const isOver = now > until + PATIENCE_MS || (isSame && before.code === `${subject}-late`);
  const holds = `${holders.join(' and ')} still ${holders.length === 1 ? 'holds' : 'hold'}`;
  const draft: FindingDraft = isOver
    ? {
        code: `${subject}-late`,
        verdict: 'weak',
        headline: `Correct at the source; ${holds} the old answer, although its TTL has expired.`,
        name: stale[0]?.source.name ?? first.name,
        expected,
        seen,
        byProvider: 'Ask the operator of that server why it keeps the answer for so long. No record needs changing.',
      }
    : {
        code: `${subject}-waiting`,
        verdict: 'waiting',
        headline: `Correct at the source; ${holds} the old answer.`,
        name: stale[0]?.source.name ?? first.name,
        expected,
        seen,
        byProvider: 'Just wait. It is checked again automatically (to wait: tenedor check --wait).',
        secondsLeft: Math.max(0, Math.min(seconds, Math.ceil((until - now) / 1000))),
        until,
      };
  const weak = findings.filter((finding) => finding.verdict === 'weak').map(asDraft);
  return settledFindings(first, [draft, ...weak], draft);
}

/** What is to be done where the domain’s DNS is run. */
const forWhoeverRunsDns = (remedy: string): { remedy: string; forCustomer: string } => ({ remedy, forCustomer: remedy });

const asDraft = ({ code, verdict, headline, remedy, forCustomer = '', name, expected, seen, publish }: Finding): FindingDraft => ({
  code,
  verdict,
  headline,
  remedy: forCustomer,
  byProvider: remedy.slice(forCustomer.length).trim(),
  name,
  expected,
  seen,
  publish,
});
