import { SPECIAL_USES, type SpecialUse } from '../../mailbox/operations.ts';
import { command, type Dialogue, isUtf8, mailroomOf, no, ok } from '../dialogue.ts';
import { readFolderName } from '../names.ts';
import type { Tokens } from '../tokens.ts';
import { refusal } from './refused.ts';

/** A folder's name; one that can't be is no fault of the grammar, so it is null. */
export const folderArgument = (tokens: Tokens, dialogue: Dialogue): string | null => readFolderName(tokens.astring(), isUtf8(dialogue));

const only = (tokens: Tokens, dialogue: Dialogue): string | null => {
  const name = folderArgument(tokens, dialogue);
  tokens.end();
  return name;
};

const NO_NAME = no('Invalid folder name', 'CANNOT');

/** RFC 3501 §6.3.3, RFC 6154 §3, RFC 8474 §4.1 */
export const create = command(
  'signed-in',
  (tokens: Tokens, dialogue) => {
    // A separator at the end says that folders will be made in it (RFC 3501 §6.3.3); here that needs no saying.
    const octets = tokens.astring();
    const name = readFolderName(octets.at(-1) === 0x2f ? octets.subarray(0, -1) : octets, isUtf8(dialogue));
    let uses: string[] = [];
    if (!tokens.isAtEnd) {
      tokens.space();
      const parameters = tokens.list(() => {
        tokens.expect('USE');
        tokens.space();
        return tokens.list(
          () =>
            tokens
              .match(/\\[A-Za-z]+/y)
              ?.slice(1)
              .toLowerCase() ?? '',
        );
      });
      uses = parameters.flat();
      tokens.end();
    }
    return { name, uses };
  },
  async (dialogue, { name, uses }) => {
    if (name === null) return NO_NAME;
    const use = (uses[0] ?? null) as SpecialUse | null;
    if (uses.length > 1 || (use !== null && !SPECIAL_USES.includes(use))) return no('Unknown folder purpose', 'USEATTR');
    const result = await mailroomOf(dialogue).operate({ kind: 'create', name, specialUse: use });
    if (result.kind === 'refused') return refusal(result);
    return ok('Done', result.kind === 'created' ? `MAILBOXID (F${result.id})` : undefined);
  },
);

/** RFC 3501 §6.3.4 */
export const remove = command('signed-in', only, async (dialogue, name) => {
  if (name === null) return NO_NAME;
  const result = await mailroomOf(dialogue).operate({ kind: 'delete', name });
  return result.kind === 'refused' ? refusal(result) : ok();
});

/** RFC 3501 §6.3.5 */
export const rename = command(
  'signed-in',
  (tokens: Tokens, dialogue) => {
    const name = folderArgument(tokens, dialogue);
    tokens.space();
    return { name, to: only(tokens, dialogue) };
  },
  async (dialogue, { name, to }) => {
    if (name === null || to === null) return NO_NAME;
    const result = await mailroomOf(dialogue).operate({ kind: 'rename', name, to });
    return result.kind === 'refused' ? refusal(result) : ok();
  },
);

const subscription = (isOn: boolean) =>
  command('signed-in', only, async (dialogue, name) => {
    if (name === null) return NO_NAME;
    const result = await mailroomOf(dialogue).operate({ kind: 'subscribe', name, isOn });
    return result.kind === 'refused' ? refusal(result) : ok();
  });
/** RFC 3501 §6.3.6 */
export const subscribe = subscription(true);
/** RFC 3501 §6.3.7 */
export const unsubscribe = subscription(false);
