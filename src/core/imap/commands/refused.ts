import type { OperationResult } from '../../mailbox/operations.ts';
import { type Ending, no } from '../dialogue.ts';

/** The response code of each refusal (RFC 5530, RFC 9208 §4.3.1, RFC 6154 §3). */
const CODES = {
  'no-folder': 'NONEXISTENT',
  exists: 'ALREADYEXISTS',
  'over-quota': 'OVERQUOTA',
  'not-possible': 'CANNOT',
  'special-use': 'USEATTR',
  'has-children': 'CANNOT',
  'too-many': 'LIMIT',
  'no-right': 'NOPERM',
  unavailable: 'UNAVAILABLE',
} as const;

/** How a command ends whose operation was refused. */
export const refusal = ({ why, text }: Extract<OperationResult, { kind: 'refused' }>): Ending => no(text, CODES[why]);

/** The same where a folder is needed that the client may make (RFC 3501 §6.4.7). */
export const refusalOfTarget = (result: Extract<OperationResult, { kind: 'refused' }>): Ending =>
  result.why === 'no-folder' ? no(result.text, 'TRYCREATE') : refusal(result);
