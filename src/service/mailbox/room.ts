import type { Database } from '../../store/database.ts';
import { findRoom, type Use } from '../../store/mailbox-use.ts';
import { type Refused, refused } from './operation-refusals.ts';

const fits = (used: number, more: number, most: number | null): boolean => most === null || used + more <= most;

/** Why a mailbox does not take so much more; null when it does. */
export const refusedForRoom = (db: Database, mailboxId: number, use: Use): Refused | null => roomOf(db, mailboxId)(use);

/** The same for several amounts, as it is now. */
export function roomOf(db: Database, mailboxId: number): (use: Use) => Refused | null {
  const room = findRoom(db, mailboxId);
  if (!room) return () => refused('unavailable', 'The mailbox no longer exists');
  return ({ bytes, messages }) => {
    if (!fits(room.usedBytes, bytes, room.quotaBytes) || !fits(room.usedMessages, messages, room.quotaMessages))
      return refused('over-quota', 'The mailbox is full');
    if (!fits(room.domainBytes, bytes, room.storageBytes) || !fits(room.domainMessages, messages, room.storageMessages))
      return refused('over-quota', 'The storage of the domain is full');
    return null;
  };
}
