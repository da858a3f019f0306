import { SCORE_TEXTS } from '../../texts/en/scores.ts';
import { MESSAGE_SUBJECTS, type MessageSubject, type Verdict } from '../vocabulary.ts';
import { MESSAGE_CODES, MESSAGE_WORTH, type MessageCode } from './catalogue.ts';

/** One fact about a message, and what it costs. */
export interface MessageFinding {
  subject: MessageSubject;
  /** Stable, for programs. */
  code: MessageCode;
  verdict: Verdict;
  /** What was found, in one sentence. */
  headline: string;
  /** What stands there, as written. */
  seen: string[];
  why: string;
  /** What to do; empty where nothing is. */
  remedy: string;
  /** Points that it takes from 100. */
  costs: number;
}

/** What a look at one subject says; `code` is one of the subject’s. */
export interface MessageDraft<Subject extends MessageSubject = MessageSubject> {
  code: keyof (typeof MESSAGE_CODES)[Subject];
  headline: string;
  seen?: string[];
  remedy?: string;
}

/** A message is worth `points` of the `outOf` that could be judged: what nobody could answer is in neither. */
export interface MessageScore {
  points: number;
  outOf: number;
  findings: MessageFinding[];
}

const MOST_SEEN = 5;
const LONGEST_SEEN = 300;

/** The findings of a subject, the dearest first. Together they cost no more than the subject is worth. */
export function messageFindings<Subject extends MessageSubject>(
  subject: Subject,
  drafts: readonly MessageDraft<Subject>[],
): MessageFinding[] {
  const codes: Record<string, { verdict: Verdict; costs: number }> = MESSAGE_CODES[subject];
  let left = MESSAGE_WORTH[subject];
  return drafts
    .map((draft) => ({ draft, coded: codes[draft.code as string] as { verdict: Verdict; costs: number } }))
    .sort((one, other) => other.coded.costs - one.coded.costs)
    .map(({ draft, coded }) => {
      const costs = Math.min(left, coded.costs);
      left -= costs;
      return {
        subject,
        code: draft.code as MessageCode,
        verdict: coded.verdict,
        headline: draft.headline,
        seen: (draft.seen ?? []).slice(0, MOST_SEEN).map((one) => (one.length > LONGEST_SEEN ? `${one.slice(0, LONGEST_SEEN - 1)}…` : one)),
        why: SCORE_TEXTS[draft.code as MessageCode],
        remedy: draft.remedy ?? '',
        costs,
      };
    });
}

/** Sums up; the dearest findings come first, then the order of the subjects. */
export function scoreOf(findings: readonly MessageFinding[]): MessageScore {
  const unanswered = MESSAGE_SUBJECTS.filter((subject) => {
    const own = findings.filter((one) => one.subject === subject);
    return own.length > 0 && own.every((one) => one.verdict === 'unknown');
  });
  const outOf = 100 - unanswered.reduce((sum, subject) => sum + MESSAGE_WORTH[subject], 0);
  const costs = findings.reduce((sum, one) => sum + one.costs, 0);
  return { points: outOf - costs, outOf, findings: [...findings].sort((one, other) => other.costs - one.costs) };
}
