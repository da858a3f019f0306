import { changedFlags, type FlagChange, type Flags, flagNames, flagsOf } from '../../mailbox/flags.ts';
import { type Range, rangesText } from '../../mailbox/uid-set.ts';
import { command, type Dialogue, type Ending, hasCondstore, mailroomOf, no, ok, viewOf, type Write } from '../dialogue.ts';
import { SyntaxFault, type Tokens } from '../tokens.ts';
import { sequencesOf } from './fetching.ts';
import { refusal } from './refused.ts';

interface StoreAsked {
  set: Range[] | '$';
  unchangedSince: number | null;
  change: FlagChange;
  isSilent: boolean;
  by: Flags;
}

function readStore(tokens: Tokens): StoreAsked {
  const set = tokens.sequenceSet();
  tokens.space();
  let unchangedSince: number | null = null;
  if (tokens.peek() === '(') {
    tokens.list(() => {
      tokens.expect('UNCHANGEDSINCE');
      tokens.space();
      unchangedSince = tokens.modseq();
    });
    tokens.space();
  }
  const change = tokens.take('+') ? 'add' : tokens.take('-') ? 'remove' : 'replace';
  tokens.expect('FLAGS');
  const isSilent = tokens.take('.SILENT');
  tokens.space();
  const by = flagsOf(tokens.flags());
  tokens.end();
  if (!by) throw new SyntaxFault('These flags cannot be set');
  return { set, unchangedSince, change, isSilent, by };
}

const runStore =
  (byUid: boolean) =>
  async (dialogue: Dialogue, asked: StoreAsked, write: Write): Promise<Ending> => {
    const view = viewOf(dialogue);
    if (view.isReadOnly) return no('The folder is open read-only', 'CANNOT');
    const sequences = sequencesOf(dialogue, asked.set, byUid);
    if (!sequences) return { kind: 'BAD', text: 'There is no such message' };
    if (asked.unchangedSince !== null) dialogue.enabled.add('CONDSTORE');
    const uids = view.uidsOf(sequences);
    if (uids.length === 0) return ok();
    const before = new Map<number, Flags>();
    for (const [from, to] of sequences)
      for (let sequence = from; sequence <= to; sequence += 1) before.set(view.uidAt(sequence), view.markAt(sequence));
    // What others have changed, the client still has to hear.
    const untold = new Set([...before.keys()].filter((uid) => view.isUntold(uid)));
    const { change, by, unchangedSince } = asked;
    const result = await mailroomOf(dialogue).operate({ kind: 'flag', folder: view.folder.id, uids, change, by, unchangedSince });
    if (result.kind === 'refused') return refusal(result);
    const leftAlone = result.kind === 'flagged' ? result.leftAlone : [];
    await view.update();
    let isGone = false;
    const said: string[] = [];
    for (const [uid, had] of before) {
      isGone ||= view.isGone(uid);
      const mark = view.markAt(view.sequenceOf(uid));
      if (asked.isSilent) {
        // What came out as it was asked for need not be told; with CONDSTORE the new mod-sequence must be (RFC 7162 §3.1.3).
        if (!untold.has(uid) && !hasCondstore(dialogue) && flagNames(mark) === flagNames(changedFlags(had, change, by)))
          view.forgetMark(uid);
      } else if (!leftAlone.some(([from, to]) => uid >= from && uid <= to) && !view.isGone(uid)) {
        view.forgetMark(uid);
        const parts = [
          ...(byUid ? [`UID ${uid}`] : []),
          `FLAGS (${flagNames(mark)})`,
          ...(hasCondstore(dialogue) ? [`MODSEQ (${mark.modseq})`] : []),
        ];
        said.push(`* ${view.sequenceOf(uid)} FETCH (${parts.join(' ')})\r\n`);
      }
    }
    const keywords = view.newKeywords();
    if (keywords !== '' || said.length > 0) await write(keywords + said.join(''));
    if (leftAlone.length > 0) {
      const modified = byUid ? leftAlone : (view.resolve(leftAlone, true) ?? []);
      return ok('Some were changed in the meantime', `MODIFIED ${rangesText(modified)}`);
    }
    return isGone && !byUid ? no('Some of the messages no longer exist', 'EXPUNGEISSUED') : ok();
  };

/** RFC 3501 §6.4.6, RFC 7162 §3.1.3 */
export const store = command('selected', readStore, runStore(false), { mayExpunge: false });
export const uidStore = command('selected', readStore, runStore(true));
