import { POLICIES, type Policy } from '../vocabulary.ts';

/** How long SPF and DKIM must have been good, and the stage have stood, before the next stage is proposed. */
export const STAGE_DAYS = 14;
const DAY = 24 * 3600_000;

export const STAGE_WORDS: Record<Policy, string> = { none: 'watch', quarantine: 'quarantine', reject: 'reject' };

export interface NextStage {
  stage: Policy;
  /** Whether it is time; else `dueAt` says when, should everything stay good. */
  due: boolean;
  dueAt: number | null;
  reason: string;
}

/** The stage that a domain should come to next, with the reason; null at the last one. Times in ms since 1970, null for “not so”. */
export function nextStage(stage: Policy, facts: { goodSince: number | null; stageSince: number | null; now: number }): NextStage | null {
  const next = POLICIES[POLICIES.indexOf(stage) + 1];
  if (next === undefined) return null;
  const { goodSince, stageSince, now } = facts;
  if (goodSince === null) return { stage: next, due: false, dueAt: null, reason: 'SPF and DKIM must be good first' };
  if (stageSince === null)
    return { stage: next, due: false, dueAt: null, reason: `the policy of this stage (p=${stage}) must be published first` };
  const dueAt = Math.max(goodSince, stageSince) + STAGE_DAYS * DAY;
  const days = Math.floor((now - Math.max(goodSince, stageSince)) / DAY);
  return {
    stage: next,
    due: now >= dueAt,
    dueAt,
    reason: `SPF and DKIM have been good with p=${stage} for ${days === 1 ? 'one day' : `${days} days`}; ${STAGE_DAYS} are enough`,
  };
}

/** A published policy with some tags changed, in their places; null takes a tag away. */
export function withTags(text: string, changes: Record<string, string | null>): string {
  const left = { ...changes };
  const parts = text
    .split(';')
    .map((part) => part.trim())
    .filter((part) => part !== '')
    .flatMap((part) => {
      const name = part.split('=')[0]?.trim().toLowerCase() ?? '';
      if (!(name in left)) return [part];
      const value = left[name];
      delete left[name];
      return value === null || value === undefined ? [] : [`${name}=${value}`];
    });
  for (const [name, value] of Object.entries(left)) if (value !== null) parts.push(`${name}=${value}`);
  return parts.join('; ');
}
