import type { LimitDecision } from '../../core/limits/decide.ts';
import type { ScopeRef } from '../../store/limits.ts';

/** `scope` is the one whose limit stands in the way. */
export type Refusal = Extract<LimitDecision, { kind: 'full' }> & { scope: ScopeRef };
