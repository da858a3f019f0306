import { DELETED, SEEN } from '../core/mailbox/flags.ts';
import type { Database } from './database.ts';
import type { Readable } from './read-database.ts';

/** What lies in a mailbox, or comes to it or goes from it. */
export interface Use {
  /** Octets. */
  bytes: number;
  messages: number;
}

/** What a mailbox uses is so much more, or less; its domain's use follows. False when the mailbox is gone. */
export const countUse = (db: Database, mailboxId: number, { bytes, messages }: Use): boolean =>
  db.run(
    `UPDATE kept_mailbox SET used_bytes = max(0, used_bytes + @bytes), used_messages = max(0, used_messages + @messages),
       -- Who has made room is warned again when it is used up.
       warned_at = iif((used_bytes + @bytes) * 10 < quota_bytes * 8 AND (quota_messages IS NULL OR (used_messages + @messages) * 10 < quota_messages * 8),
         NULL, warned_at)
     WHERE id = @mailboxId`,
    { bytes, messages, mailboxId },
  ).changes > 0;

/** Counts a message that is delivered, when the quotas of the mailbox and its domain have room for it; else says which has none. */
export function takeRoom(db: Database, mailboxId: number, octets: number): 'mailbox' | 'domain' | null {
  const taken = db.run(
    `UPDATE kept_mailbox SET used_bytes = used_bytes + @octets, used_messages = used_messages + 1
     WHERE id = @mailboxId AND used_bytes + @octets <= quota_bytes AND (quota_messages IS NULL OR used_messages < quota_messages)
       AND NOT EXISTS (SELECT 1 FROM domain_use u JOIN domain d ON d.id = u.domain_id
         WHERE u.domain_id = kept_mailbox.domain_id AND (u.bytes + @octets > d.storage_bytes OR u.messages >= d.storage_messages))`,
    { mailboxId, octets },
  );
  if (taken.changes > 0) return null;
  const room = findRoom(db, mailboxId);
  const fits =
    room && room.usedBytes + octets <= room.quotaBytes && (room.quotaMessages === null || room.usedMessages < room.quotaMessages);
  return fits ? 'domain' : 'mailbox';
}

/** What is nearly full, and has not been said to be so: a mailbox, or all of its domain together. */
export interface NearlyFull {
  kind: 'mailbox' | 'domain';
  /** An address, or a domain's name. */
  name: string;
}

/** How near a mailbox and its domain are to what they may use; null where there is no limit. */
interface Pressure {
  local: string;
  warnedAt: number | null;
  isNear: 0 | 1;
  domainId: number;
  domain: string;
  domainWarnedAt: number | null;
  isDomainNear: 0 | 1 | null;
  isDomainFar: 0 | 1;
}
const PRESSURE = `SELECT m.local, m.warned_at AS warnedAt, m.used_bytes * 10 >= m.quota_bytes * 9 OR coalesce(m.used_messages * 10 >= m.quota_messages * 9, 0) AS isNear,
    d.id AS domainId, d.name AS domain, u.warned_at AS domainWarnedAt,
    u.bytes * 10 >= d.storage_bytes * 9 OR u.messages * 10 >= d.storage_messages * 9 AS isDomainNear,
    coalesce(u.bytes * 10 < d.storage_bytes * 8, 1) AND coalesce(u.messages * 10 < d.storage_messages * 8, 1) AS isDomainFar
  FROM mailbox m JOIN domain d ON d.id = m.domain_id JOIN domain_use u ON u.domain_id = d.id WHERE m.id = ?`;

/** Notes that a mailbox, or its domain, uses nine tenths of what it may, and returns which have come to that just now. */
export function noteNearlyFull(db: Database, mailboxId: number, now: number): NearlyFull[] {
  const found: NearlyFull[] = [];
  // One question for both: it is asked for each message.
  const use = db.one<Pressure>(PRESSURE, mailboxId);
  if (!use) return found;
  if (use.isNear === 1 && use.warnedAt === null) {
    db.run('UPDATE kept_mailbox SET warned_at = ? WHERE id = ?', now, mailboxId);
    found.push({ kind: 'mailbox', name: `${use.local}@${use.domain}` });
  }
  if (use.isDomainNear === 1 && use.domainWarnedAt === null) {
    db.run('UPDATE domain_use SET warned_at = ? WHERE domain_id = ?', now, use.domainId);
    found.push({ kind: 'domain', name: use.domain });
  } else if (use.isDomainFar === 1 && use.domainWarnedAt !== null)
    db.run('UPDATE domain_use SET warned_at = NULL WHERE domain_id = ?', use.domainId);
  return found;
}

/** Counts anew what a mailbox and its folders store; its domain's use follows. A UID that was given is not given again. */
export const recountMailbox = (db: Database, mailboxId: number): void => {
  const of = 'FROM message m WHERE m.folder_id = folder.id';
  db.run(
    `UPDATE folder SET messages = (SELECT count(*) ${of}), bytes = (SELECT coalesce(sum(m.size), 0) ${of}),
       unseen = (SELECT count(*) ${of} AND m.flags & ${SEEN} = 0), deleted = (SELECT count(*) ${of} AND m.flags & ${DELETED} <> 0),
       next_uid = max(next_uid, (SELECT coalesce(max(m.uid), 0) + 1 ${of}))
     WHERE mailbox_id = ?`,
    mailboxId,
  );
  db.run(
    `UPDATE kept_mailbox SET
       used_bytes = (SELECT coalesce(sum(m.size), 0) FROM folder f JOIN message m ON m.folder_id = f.id WHERE f.mailbox_id = kept_mailbox.id),
       used_messages = (SELECT count(*) FROM folder f JOIN message m ON m.folder_id = f.id WHERE f.mailbox_id = kept_mailbox.id)
     WHERE id = ?`,
    mailboxId,
  );
};

/** Adds up anew what the mailboxes of a domain use. */
export const recountDomain = (db: Database, domainId: number): void => {
  db.run(
    `UPDATE domain_use SET
       bytes = (SELECT coalesce(sum(used_bytes), 0) FROM kept_mailbox WHERE domain_id = domain_use.domain_id AND removed_at IS NULL),
       messages = (SELECT coalesce(sum(used_messages), 0) FROM kept_mailbox WHERE domain_id = domain_use.domain_id AND removed_at IS NULL)
     WHERE domain_id = ?`,
    domainId,
  );
};

/** What a mailbox and its domain use, and may; null where there is no limit. */
export interface Room {
  usedBytes: number;
  quotaBytes: number;
  usedMessages: number;
  quotaMessages: number | null;
  domainBytes: number;
  domainMessages: number;
  storageBytes: number | null;
  storageMessages: number | null;
}

export const findRoom = (db: Readable, mailboxId: number) =>
  db.one<Room>(
    `SELECT m.used_bytes AS usedBytes, m.quota_bytes AS quotaBytes, m.used_messages AS usedMessages, m.quota_messages AS quotaMessages,
       u.bytes AS domainBytes, u.messages AS domainMessages, d.storage_bytes AS storageBytes, d.storage_messages AS storageMessages
     FROM mailbox m JOIN domain d ON d.id = m.domain_id JOIN domain_use u ON u.domain_id = d.id WHERE m.id = ?`,
    mailboxId,
  );
