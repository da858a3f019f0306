import { changedFlags, DELETED } from '../../core/mailbox/flags.ts';
import type { MailboxOperation, OperationResult } from '../../core/mailbox/operations.ts';
import { masked } from '../../core/mailbox/rights.ts';
import { rangesOf } from '../../core/mailbox/uid-set.ts';
import type { Database } from '../../store/database.ts';
import {
  addMessages,
  countSubscribed,
  expungeMessages,
  findFolder,
  findFolderNamed,
  listMessagesOf,
  markMessages,
  type NewMessage,
  subscribe,
  unsubscribe,
} from '../../store/folders.ts';
import { addEntry } from '../../store/journeys.ts';
import { countUse, type NearlyFull, noteNearlyFull } from '../../store/mailbox-use.ts';
import type { HeldText } from '../../store/message-texts.ts';
import { removeStored } from '../../store/messages.ts';
import { listSharedFolders } from '../../store/shared-mailboxes.ts';
import { nearlyFullEntry } from '../acceptance/nearly-full.ts';
import { create, remove, rename } from './change-folders.ts';
import { copyOrMove } from './copy-messages.ts';
import type { MailboxDeps } from './deps.ts';
import { grant } from './grant.ts';
import { inPieces } from './message-pieces.ts';
import { NO_FOLDER, refused } from './operation-refusals.ts';
import { refusedForRoom } from './room.ts';

const MOST_SUBSCRIBED = 2000;

/**
 * Does what somebody asks of a mailbox, in the shared commit: the one way in which folders and what lies in them change, but for deliveries.
 * What touches many messages goes in pieces, each of them whole. Resolves when all is on disk.
 */
export async function operate(context: MailboxDeps, mailboxId: number, operation: MailboxOperation): Promise<OperationResult> {
  const { db } = context;
  switch (operation.kind) {
    case 'flag':
      return flag(db, mailboxId, operation);
    case 'copy':
    case 'move':
      return copyOrMove(context, mailboxId, operation);
    case 'append':
      return append(context, mailboxId, operation);
    case 'expunge':
      return expunge(db, mailboxId, operation);
    case 'remove':
      // RFC 1939 §6: when something comes in between, some of what was marked may be left.
      await db.commitInPieces(operation.ids, (some) => removeStored(db, mailboxId, some));
      return { kind: 'done' };
    case 'create':
      return db.commit(() => create(db, mailboxId, operation));
    case 'delete':
      return remove(db, mailboxId, operation.name);
    case 'rename':
      return rename(context, mailboxId, operation);
    case 'grant':
      return db.commit(() => grant(context, mailboxId, operation));
    case 'subscribe':
      return db.commit(() => {
        const isThere =
          findFolderNamed(db, mailboxId, operation.name) ?? listSharedFolders(db, mailboxId).some((one) => one.name === operation.name);
        if (operation.isOn && !isThere) return NO_FOLDER;
        // Names stay when their folders go, so they have a bound of their own.
        if (operation.isOn && countSubscribed(db, mailboxId) >= MOST_SUBSCRIBED)
          return refused('too-many', 'Too many subscribed folders; unsubscribe some first');
        if (operation.isOn) subscribe(db, mailboxId, operation.name);
        else unsubscribe(db, mailboxId, operation.name);
        return { kind: 'done' };
      });
  }
}

async function flag(
  db: Database,
  mailboxId: number,
  { folder, uids, change, by, unchangedSince, mask }: Extract<MailboxOperation, { kind: 'flag' }>,
): Promise<OperationResult> {
  const leftAlone: number[] = [];
  const isThere = await inPieces(db, mailboxId, folder, uids, (some) => {
    const changed = some.flatMap((before) => {
      if (unchangedSince !== null && before.modseq > unchangedSince) {
        leftAlone.push(before.uid);
        return [];
      }
      const changed = changedFlags(before, change, by);
      const after = mask ? masked(before, changed, mask) : changed;
      return after.flags === before.flags && after.keywords === before.keywords ? [] : [{ before, ...after }];
    });
    if (changed.length > 0) markMessages(db, folder, changed);
  });
  return isThere ? { kind: 'flagged', leftAlone: rangesOf(leftAlone) } : NO_FOLDER;
}

async function append(
  { db, texts, clock, space, signals }: MailboxDeps,
  mailboxId: number,
  { to, messages, instead }: Extract<MailboxOperation, { kind: 'append' }>,
): Promise<OperationResult> {
  if (!findFolderNamed(db, mailboxId, to)) return NO_FOLDER;
  if (!space.isEnough) return refused('unavailable', 'The server is short of disk space; try again later');
  const use = { bytes: messages.reduce((sum, one) => sum + one.text.length, 0), messages: messages.length };
  // What goes makes room for what takes its place (RFC 8508).
  const room = (): OperationResult | null => {
    const gone = instead ? listMessagesOf(db, instead.folder, [instead.uid]) : [];
    const more = { bytes: use.bytes - gone.reduce((sum, one) => sum + one.size, 0), messages: use.messages - gone.length };
    return more.bytes <= 0 && more.messages <= 0 ? null : refusedForRoom(db, mailboxId, more);
  };
  const full = room();
  if (full) return full;
  const held: HeldText[] = [];
  let isDone = false;
  let nearlyFull: NearlyFull[] = [];
  try {
    for (const one of messages) held.push(await texts.hold(one.text));
    const result = await db.commit((): OperationResult => {
      const target = findFolderNamed(db, mailboxId, to);
      if (!target) return NO_FOLDER;
      const nowFull = room();
      if (nowFull) return nowFull;
      for (const text of held) text.keep();
      const now = clock.now();
      const added = messages.map(
        ({ flags, keywords, internalDate, text }, place): NewMessage => ({
          flags,
          keywords,
          internalDate: internalDate === 0 ? now : internalDate,
          savedAt: now,
          size: text.length,
          prefix: '',
          file: held[place]?.name ?? '',
          outlineId: null,
          journeyId: null,
        }),
      );
      const uids = addMessages(db, target.id, added);
      countUse(db, mailboxId, use);
      if (instead) expungeMessages(db, mailboxId, instead.folder, [instead.uid]);
      nearlyFull = noteNearlyFull(db, mailboxId, now);
      for (const one of nearlyFull) addEntry(db, nearlyFullEntry(one, now));
      return { kind: 'appended', uidValidity: target.uidValidity, uids };
    });
    isDone = result.kind === 'appended';
    if (isDone)
      for (const [place, { text }] of messages.entries()) signals.emit('stored', { file: held[place]?.name ?? '', size: text.length });
    if (isDone) for (const one of nearlyFull) signals.emit('nearly-full', one);
    return result;
  } finally {
    for (const text of held) text.release(isDone);
  }
}

async function expunge(
  db: Database,
  mailboxId: number,
  { folder, uids }: Extract<MailboxOperation, { kind: 'expunge' }>,
): Promise<OperationResult> {
  const last = (findFolder(db, mailboxId, folder)?.nextUid ?? 1) - 1;
  let messages = 0;
  const isThere = await inPieces(db, mailboxId, folder, uids ?? [[1, last]], (some) => {
    const marked = some.filter((one) => (one.flags & DELETED) !== 0);
    if (marked.length > 0)
      messages += expungeMessages(
        db,
        mailboxId,
        folder,
        marked.map((one) => one.uid),
      );
  });
  return isThere ? { kind: 'done', messages } : NO_FOLDER;
}
