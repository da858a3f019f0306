import { CODES, type FindingCode } from '../../texts/en/findings.ts';
import type { SheetRecord } from '../records/sheet.ts';
import { SUBJECT_WORTH, type Subject, type Verdict } from '../vocabulary.ts';
import type { Evidence } from './evidence.ts';

/** One checked fact. */
export interface Finding {
  subject: Subject;
  /** Stable, for programs: `mx-left-over`. */
  code: FindingCode;
  verdict: Verdict;
  /** What was found, in one sentence. */
  headline: string;
  /** The name that was asked. */
  name: string;
  expected: string[];
  seen: string[];
  why: string;
  /** What to do; empty when nothing is. */
  remedy: string;
  /** What of it whoever runs the domain’s DNS can do; empty when it is all the provider’s. Findings of version 0.1.0 lack it. */
  forCustomer?: string;
  /** The records to type, empty when nothing is to be typed. */
  publish: SheetRecord[];
  /** Who was asked, and what came back. */
  evidence: Evidence[];
  /** For `waiting`: seconds until the last old answer has run out. */
  secondsLeft: number | null;
  /** For `waiting`: when that was to be over, counted from when it was first seen; ms since 1970. */
  until: number | null;
  /** Points of readiness that this fact is worth, and that it earns as it is. */
  worth: number;
  earned: number;
}

/** What of its worth a fact earns. */
const SHARE: Record<Verdict, number> = { good: 1, weak: 0.6, waiting: 0.6, wrong: 0, missing: 0, unknown: 0 };
/** The worst first. */
const HARM: Verdict[] = ['wrong', 'missing', 'waiting', 'unknown', 'weak', 'good'];

/** What a check says; what is left out is taken from the subject's own facts. */
export interface FindingDraft {
  code: FindingCode;
  verdict: Verdict;
  headline: string;
  /** What whoever runs the domain’s DNS can do. */
  remedy?: string;
  /** What the provider can do, beside that or instead. */
  byProvider?: string;
  name?: string;
  expected?: string[];
  seen?: string[];
  publish?: SheetRecord[];
  secondsLeft?: number;
  until?: number;
  /** Something to do that harms no mail as it is: it costs no readiness. */
  harmless?: boolean;
}

/** What all findings of a subject share. */
export interface SubjectFacts {
  subject: Subject;
  name: string;
  expected: string[];
  seen: string[];
}

/** A subject's findings, the worst first: that one carries what the subject is worth. Without any fault, `good` is the finding. */
export function settledFindings(facts: SubjectFacts, faults: readonly FindingDraft[], good: FindingDraft): Finding[] {
  const drafts = faults.length === 0 ? [good] : [...faults].sort((one, other) => HARM.indexOf(one.verdict) - HARM.indexOf(other.verdict));
  // Field by field: by spreading, this took a thirtieth of a check of every domain.
  return drafts.map((draft, at): Finding => {
    const worth = at === 0 ? SUBJECT_WORTH[facts.subject] : 0;
    return {
      subject: facts.subject,
      code: draft.code,
      verdict: draft.verdict,
      headline: draft.headline,
      name: draft.name ?? facts.name,
      expected: draft.expected ?? facts.expected,
      seen: draft.seen ?? facts.seen,
      why: CODES[draft.code],
      remedy: [draft.remedy ?? '', draft.byProvider ?? ''].filter((text) => text !== '').join(' '),
      forCustomer: draft.remedy ?? '',
      publish: draft.publish ?? [],
      evidence: [],
      secondsLeft: draft.secondsLeft ?? null,
      until: draft.until ?? null,
      worth,
      earned: draft.harmless ? worth : Math.round(worth * SHARE[draft.verdict]),
    };
  });
}

/** The finding that stands for each subject: its worst. */
export function leading(findings: readonly Finding[]): Finding[] {
  return findings.filter((one, at) => findings.findIndex((other) => other.subject === one.subject) === at);
}

/** 0–100: what the findings earn of what they are worth; null when none of them got an answer. */
export function readiness(findings: readonly Finding[]): number | null {
  if (findings.every((one) => one.verdict === 'unknown' || one.worth === 0)) return null;
  const worth = findings.reduce((sum, one) => sum + one.worth, 0);
  const earned = findings.reduce((sum, one) => sum + one.earned, 0);
  return Math.round((100 * earned) / worth);
}

/** Whether something needs doing by somebody. */
export const needsWork = (one: { verdict: Verdict }): boolean =>
  one.verdict === 'wrong' || one.verdict === 'missing' || one.verdict === 'weak';

/** Whether one verdict is worse news than another; not knowing is no news. */
export const isWorse = (now: Verdict, before: Verdict | null): boolean =>
  now !== 'unknown' && (before === null ? needsWork({ verdict: now }) : SHARE[now] < SHARE[before]);

/** The finding for a look-up that got no answer: silence is never absence. */
export function unanswered(facts: SubjectFacts, reason: string, name = facts.name): Finding[] {
  const fault: FindingDraft = {
    code: `${facts.subject}-unanswered`,
    verdict: 'unknown',
    headline: `The name servers gave no answer: ${reason}.`,
    name,
    remedy: 'Check again in a few minutes. If it persists, ask the operator of the zone’s name servers.',
  };
  return settledFindings(facts, [fault], fault);
}
