import type { Reply } from '../replies.ts';
import { REPLIES } from '../replies.ts';
import type { Dialogue } from './dialogue.ts';

/** One command of the protocol (RFC 5321 §4.1): how it is read, when it may come, and what it does. */
export interface Verb<Arguments> {
  name: string;
  /** Reads what follows the verb; what can't be read gets a reply. */
  parse(argument: string): { args: Arguments } | { refusal: Reply };
  /** What is replied where it may not come; null where it may. */
  refusal(dialogue: Dialogue): Reply | null;
  run(dialogue: Dialogue, args: Arguments): void;
}

export const unreadable = (reason: string): { refusal: Reply } => ({ refusal: REPLIES.badArgument(reason) });

/** For verbs that come alone. */
export const alone =
  (name: string) =>
  (argument: string): { args: null } | { refusal: Reply } =>
    argument === '' ? { args: null } : unreadable(`${name} takes no argument`);

/** For verbs of which nothing is read. */
export const anything = (): { args: null } => ({ args: null });

/** For verbs that may come at any time. */
export const always = (): null => null;
