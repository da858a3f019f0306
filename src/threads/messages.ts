/** What goes to a thread; a question with the number 0 has no answer. */
export type ToThread =
  | { kind: 'ask'; number: number; question: unknown }
  | { kind: 'granted'; number: number; value: unknown }
  | { kind: 'refused'; number: number; reason: string }
  | { kind: 'close' };

/** What comes from it; a wish with the number 0 is not waited for. */
export type FromThread =
  | { kind: 'answer'; number: number; answer: unknown }
  | { kind: 'fault'; number: number; reason: string; isForeseen: boolean }
  | { kind: 'wish'; number: number; what: string; values: unknown[] };
