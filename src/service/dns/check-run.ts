import type { Finding } from '../../core/checks/finding.ts';
import type { Verdict } from '../../core/vocabulary.ts';
import type { Domain } from '../../store/domains.ts';
import type { Change } from '../base/ports.ts';

export interface CheckSummary {
  checkedAt: number;
  /** How many findings have each verdict. */
  verdicts: Partial<Record<Verdict, number>>;
  domains: {
    domain: string;
    role: Domain['role'];
    readiness: number | null;
    good: boolean;
    /** The worst of each subject. */
    findings: Pick<Finding, 'subject' | 'verdict' | 'headline' | 'code'>[];
  }[];
  /** What is different from the last time. */
  changes: Change[];
}

/** A check of every domain, under way or done. */
export interface CheckRun {
  id: number;
  startedAt: number;
  total: number;
  done: number;
  finishedAt: number | null;
  /** Why it ended early; null when it did not. */
  failure: string | null;
  summary: CheckSummary | null;
}
