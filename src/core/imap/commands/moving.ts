import { type Range, rangesText } from '../../mailbox/uid-set.ts';
import { command, type Dialogue, type Ending, mailroomOf, no, nothing, ok, viewOf, type Write } from '../dialogue.ts';
import type { Tokens } from '../tokens.ts';
import { sequencesOf } from './fetching.ts';
import { folderArgument } from './folders.ts';
import { refusal, refusalOfTarget } from './refused.ts';
import { highest } from './selecting.ts';

const readCopy = (tokens: Tokens, dialogue: Dialogue): { set: Range[] | '$'; to: string | null } => {
  const set = tokens.sequenceSet();
  tokens.space();
  const to = folderArgument(tokens, dialogue);
  tokens.end();
  return { set, to };
};

const runCopy =
  (kind: 'copy' | 'move', byUid: boolean) =>
  async (dialogue: Dialogue, { set, to }: { set: Range[] | '$'; to: string | null }, write: Write): Promise<Ending> => {
    const view = viewOf(dialogue);
    if (kind === 'move' && view.isReadOnly) return no('The folder is open read-only', 'CANNOT');
    if (to === null) return no('Invalid folder name', 'CANNOT');
    const sequences = sequencesOf(dialogue, set, byUid);
    if (!sequences) return { kind: 'BAD', text: 'There is no such message' };
    const uids = view.uidsOf(sequences);
    const result = await mailroomOf(dialogue).operate({ kind, folder: view.folder.id, uids, to });
    if (result.kind === 'refused') return refusalOfTarget(result);
    if (result.kind !== 'copied' || result.from.length === 0) return ok('Nothing to do');
    const code = `COPYUID ${result.uidValidity} ${listed(result.from)} ${listed(result.to)}`;
    if (kind === 'copy') return ok('Copied', code);
    // RFC 6851 §4.3: where they are now is said before they go.
    await write(`* OK [${code}] Moved\r\n`);
    return ok('Done', highest(dialogue));
  };

/** UIDs in their order: pairs are found by their places (RFC 4315 §3). */
function listed(uids: readonly number[]): string {
  const ranges: [number, number][] = [];
  for (const uid of uids) {
    const last = ranges.at(-1);
    if (last && uid === last[1] + 1) last[1] = uid;
    else ranges.push([uid, uid]);
  }
  return rangesText(ranges);
}

/** RFC 3501 §6.4.7, RFC 4315 */
export const copy = command('selected', readCopy, runCopy('copy', false));
export const uidCopy = command('selected', readCopy, runCopy('copy', true));
/** RFC 6851 */
export const move = command('selected', readCopy, runCopy('move', false));
export const uidMove = command('selected', readCopy, runCopy('move', true));

async function expungeSome(dialogue: Dialogue, uids: Range[] | null): Promise<Ending> {
  const view = viewOf(dialogue);
  if (view.isReadOnly) return no('The folder is open read-only', 'CANNOT');
  const result = await mailroomOf(dialogue).operate({ kind: 'expunge', folder: view.folder.id, uids });
  if (result.kind === 'refused') return refusal(result);
  return ok('Done', highest(dialogue));
}

/** RFC 3501 §6.4.3 */
export const expunge = command('selected', nothing, (dialogue) => expungeSome(dialogue, null));
/** RFC 4315 §2.1 */
export const uidExpunge = command(
  'selected',
  (tokens: Tokens) => {
    const set = tokens.sequenceSet();
    tokens.end();
    return set;
  },
  (dialogue, set) => {
    const sequences = sequencesOf(dialogue, set, true) ?? [];
    return expungeSome(dialogue, viewOf(dialogue).uidsOf(sequences));
  },
);
