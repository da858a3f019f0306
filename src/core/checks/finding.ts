import type { SheetRecord } from '../records/sheet.ts';

export const VERDICTS = ['good', 'weak', 'wrong', 'missing', 'waiting', 'unknown'] as const;
export type Verdict = (typeof VERDICTS)[number];
export const SUBJECTS = ['mx', 'spf', 'dkim', 'dmarc', 'reverse'] as const;
export type Subject = (typeof SUBJECTS)[number];

/** One checked fact. */
export interface Finding {
  subject: Subject;
  /** Stable, for programs: `mx-left-over`. */
  code: string;
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
  /** The records to type, empty when nothing is to be typed. */
  publish: SheetRecord[];
  /** Points of readiness that this fact is worth, and that it earns as it is. */
  worth: number;
  earned: number;
}

/** What each fact is worth; a domain's facts sum to 100. MX and DKIM decide most about whether mail comes and is believed. */
const WORTH: Record<Subject, number> = { mx: 25, spf: 20, dkim: 25, dmarc: 15, reverse: 15 };
const SHARE: Record<Verdict, number> = { good: 1, weak: 0.6, waiting: 0.6, wrong: 0, missing: 0, unknown: 0 };

export type FindingDraft = Omit<Finding, 'worth' | 'earned' | 'publish'> & { publish?: SheetRecord[] };

export function finding(draft: FindingDraft): Finding {
  const worth = WORTH[draft.subject];
  return { publish: [], ...draft, worth, earned: Math.round(worth * SHARE[draft.verdict]) };
}

/** 0–100: what the findings earn of what they are worth; null when none of them got an answer. */
export function readiness(findings: readonly Finding[]): number | null {
  if (findings.every((one) => one.verdict === 'unknown')) return null;
  const worth = findings.reduce((sum, one) => sum + one.worth, 0);
  const earned = findings.reduce((sum, one) => sum + one.earned, 0);
  return Math.round((100 * earned) / worth);
}

/** Whether something needs doing by somebody. */
export const needsWork = (one: { verdict: Verdict }): boolean =>
  one.verdict === 'wrong' || one.verdict === 'missing' || one.verdict === 'weak';

/** The finding for a look-up that got no answer: silence is never absence. */
export function unanswered(subject: Subject, name: string, expected: string[], reason: string): Finding {
  return finding({
    subject,
    code: `${subject}-unanswered`,
    verdict: 'unknown',
    headline: `The name servers gave no answer: ${reason}.`,
    name,
    expected,
    seen: [],
    why: 'Without an answer nothing can be said about this record; other mail servers may be waiting as well.',
    remedy: 'Check again in some minutes; if it stays so, ask whoever runs the zone’s name servers.',
  });
}
