import type { Database } from '../../store/database.ts';
import { findMailboxRoom } from '../../store/mailboxes.ts';

/** Whether a mailbox takes so many octets more. */
export function hasRoom(db: Database, mailboxId: number, bytes: number): boolean {
  const room = findMailboxRoom(db, mailboxId);
  return room !== undefined && room.usedBytes + bytes <= room.quotaBytes;
}
