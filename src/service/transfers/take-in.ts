import { nameHere } from '../../core/transfer/folder-name.ts';
import type { CarriedFolder, CarriedMessage, PutResult } from '../../core/transfer/sink.ts';
import type { Database } from '../../store/database.ts';
import { addMessagesMarked, findFolderNamed, listFolders, type NewMessage, subscribe } from '../../store/folders.ts';
import { addEntry } from '../../store/journeys.ts';
import { countUse, type NearlyFull, noteNearlyFull } from '../../store/mailbox-use.ts';
import type { HeldText } from '../../store/message-texts.ts';
import { noteTaken, takenKeys, timesThere } from '../../store/transfers.ts';
import { nearlyFullEntry } from '../acceptance/nearly-full.ts';
import { create } from '../mailbox/change-folders.ts';
import type { MailboxDeps } from '../mailbox/deps.ts';
import { roomOf } from '../mailbox/room.ts';

const NONE: PutResult = { taken: 0, known: 0, octets: 0, refused: null };

/** RFC 3501 §2.3.3: whole, and of this world: files and other servers say what they like. */
const dateOf = (at: number | null, now: number): number => (at !== null && at >= 0 && at < 8e15 ? Math.floor(at) : now);

/**
 * Puts messages that come from elsewhere into a folder, in one commit, each only once: what lies there already, or was taken before, is known. Quotas count.
 * What does not fit is refused from there on.
 */
export async function takeIn(
  context: MailboxDeps,
  mailboxId: number,
  wanted: CarriedFolder,
  messages: readonly CarriedMessage[],
): Promise<PutResult> {
  const { db, texts, clock, space, signals } = context;
  if (!space.isEnough) return { ...NONE, refused: 'The server is short of space; it can go on when there is room again.' };
  const folder = await folderFor(db, mailboxId, wanted);
  if ('refused' in folder) return { ...NONE, refused: folder.refused };
  const unknown = unknownOf(db, mailboxId, folder.id, messages);
  const fitting = fittingOf(db, mailboxId, unknown);
  const held: HeldText[] = [];
  let isDone = false;
  let nearlyFull: NearlyFull[] = [];
  try {
    for (const one of fitting.ready) held.push(await texts.hold(one.text));
    isDone = await db.commit(() => {
      if (!listFolders(db, mailboxId).some((one) => one.id === folder.id)) return false;
      for (const text of held) text.keep();
      const now = clock.now();
      // A folder in which nothing is new has no news for anybody.
      const added =
        fitting.ready.length === 0
          ? null
          : addMessagesMarked(
              db,
              folder.id,
              fitting.ready.map(
                ({ flags, keywords, internalDate, text, prefix }, place): NewMessage => ({
                  flags,
                  keywords,
                  internalDate: dateOf(internalDate, now),
                  savedAt: now,
                  size: text.length + Buffer.byteLength(prefix),
                  prefix,
                  file: held[place]?.name ?? '',
                  outlineId: null,
                  journeyId: null,
                }),
              ),
            );
      const left = new Set(unknown.slice(fitting.ready.length).map((one) => one.key));
      for (const [place, { key }] of fitting.ready.entries())
        if (key !== null && added)
          noteTaken(db, mailboxId, key, { folderId: folder.id, uid: added.firstUid + place, modseq: added.modseq });
      for (const { key } of messages) if (key !== null && !left.has(key)) noteTaken(db, mailboxId, key, null);
      countUse(db, mailboxId, { bytes: fitting.octets, messages: fitting.ready.length });
      nearlyFull = noteNearlyFull(db, mailboxId, now);
      for (const one of nearlyFull) addEntry(db, nearlyFullEntry(one, now));
      return true;
    });
  } finally {
    for (const text of held) text.release(isDone);
  }
  if (!isDone) return { ...NONE, refused: 'The folder was removed meanwhile.' };
  for (const { file, text } of fitting.ready) signals.emit('stored', { file, size: text.length });
  for (const one of nearlyFull) signals.emit('nearly-full', one);
  return {
    taken: fitting.ready.length,
    known: messages.length - unknown.length,
    octets: fitting.octets,
    refused: fitting.refused,
  };
}

/** Those that are not there yet, in their order. */
function unknownOf(db: Database, mailboxId: number, folderId: number, messages: readonly CarriedMessage[]): CarriedMessage[] {
  const taken = takenKeys(
    db,
    mailboxId,
    messages.flatMap(({ key }) => (key === null ? [] : [key])),
  );
  const times = timesThere(
    db,
    folderId,
    messages.flatMap((one) => [one.file, one.whole]),
  );
  // A client may have put it there with its Return-Path in the text.
  return messages.filter(
    ({ key, copy, file, whole }) =>
      !(key !== null && taken.has(key)) && (times.get(file) ?? 0) + (file === whole ? 0 : (times.get(whole) ?? 0)) < copy,
  );
}

/** As many as the mailbox has room for. */
function fittingOf(
  db: Database,
  mailboxId: number,
  all: readonly CarriedMessage[],
): { ready: CarriedMessage[]; octets: number; refused: string | null } {
  let octets = 0;
  const refusal = roomOf(db, mailboxId);
  for (const [place, one] of all.entries()) {
    const more = octets + one.text.length + Buffer.byteLength(one.prefix);
    const full = refusal({ bytes: more, messages: place + 1 });
    if (full) return { ready: all.slice(0, place), octets, refused: `${full.text}.` };
    octets = more;
  }
  return { ready: [...all], octets, refused: null };
}

/** The folder of that purpose, or of that name, which is made when it is not there. */
function folderFor(db: Database, mailboxId: number, { name, specialUse }: CarriedFolder): Promise<{ id: number } | { refused: string }> {
  const used = specialUse === null ? undefined : listFolders(db, mailboxId).find((one) => one.specialUse === specialUse);
  if (used) return Promise.resolve(used);
  const clean = nameHere(name);
  const found = findFolderNamed(db, mailboxId, clean);
  if (found) return Promise.resolve(found);
  return db.commit(() => {
    const made = create(db, mailboxId, { kind: 'create', name: clean, specialUse });
    if (made.kind !== 'created') return { refused: made.kind === 'refused' ? `${made.text}.` : 'The folder can’t be made.' };
    subscribe(db, mailboxId, clean);
    return { id: made.id };
  });
}
