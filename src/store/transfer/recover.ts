import { createHash } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { Carrier, MailboxRefused } from '../../core/transfer/carrier.ts';
import type { RecoverOrder } from '../../core/transfer/order.ts';
import type { CarriedMailbox, Sink } from '../../core/transfer/sink.ts';
import type { BackupTarget } from '../backup/target.ts';
import { listFolders, listMessages } from '../folders.ts';
import { reasonOf, StoreError } from '../open-data.ts';
import type { Readable } from '../read-database.ts';
import { openBackupCopy } from './backup-copy.ts';

const A_PAGE = 500;

interface KeptMailbox extends CarriedMailbox {
  id: number;
  address: string;
}

/** Mailboxes of a backup: one by its address, or all of a domain. */
export const mailboxesIn = (db: Readable, whose: string): KeptMailbox[] =>
  db
    .all<Omit<KeptMailbox, 'isShared'> & { isShared: 0 | 1 }>(
      `SELECT m.id, m.local || '@' || d.name AS address, m.name, m.password_hash AS passwordHash, m.quota_bytes AS quotaBytes,
         m.quota_messages AS quotaMessages, m.is_shared AS isShared
       FROM mailbox m JOIN domain d ON d.id = m.domain_id WHERE m.local || '@' || d.name = ? OR d.name = ? ORDER BY m.local`,
      whose,
      whose,
    )
    .map((row) => ({ ...row, isShared: row.isShared === 1 }));

/** Brings what a backup has of some mailboxes beside what they have. Throws StoreError when nothing can be read. */
export async function recover(order: RecoverOrder, data: string, sink: Sink): Promise<void> {
  const { target, db, close } = openBackupCopy(order.target, order.backup, data);
  try {
    requireSameDomain(db, order);
    const mailboxes = mailboxesIn(db, order.whose);
    if (mailboxes.length === 0) throw new StoreError(`${order.whose} had no mailbox when the backup ${order.backup} was made.`);
    for (const one of mailboxes) await recoverOne(order, { target, db }, one, sink);
  } finally {
    close();
  }
}

/** A domain that was removed, and added again, has nothing of what a backup holds under its name. */
function requireSameDomain(db: Readable, { whose, into, backup, pins }: RecoverOrder): void {
  const name = whose.slice(whose.lastIndexOf('@') + 1);
  const then = db.one<{ id: number }>('SELECT id FROM domain WHERE name = ?', name)?.id;
  if (into !== null || then === undefined || pins?.domainId === undefined || pins.domainId === then) return;
  throw new StoreError(
    `${name} in the backup ${backup} is an earlier domain of that name, removed since: its mail belongs to the former owner. Name the target mailbox.`,
  );
}

async function recoverOne(
  order: RecoverOrder,
  from: { target: BackupTarget; db: Readable },
  mailbox: KeptMailbox,
  sink: Sink,
): Promise<void> {
  const { id, address, ...missing } = mailbox;
  const opened = await sink.open(order.into ?? address, order.into === null ? missing : null);
  if ('refused' in opened) return;
  const { folder: only } = order;
  const folders = listFolders(from.db, id).filter((one) => only === null || one.name === only || one.name.startsWith(`${only}/`));
  if (folders.length === 0) return sink.close(opened.part, `There was no folder “${only}” when the backup was made.`);
  const carrier = new Carrier(
    sink,
    opened.part,
    folders.reduce((sum, one) => sum + one.messages, 0),
  );
  try {
    for (const folder of folders) {
      // In a mailbox that was made anew, all is where it was.
      const name = opened.isNew ? folder.name : `Restored ${order.backup}/${folder.name === 'INBOX' ? 'Inbox' : folder.name}`;
      await carrier.enter({ name, specialUse: opened.isNew ? folder.specialUse : null });
      for (let after = 0; ; ) {
        const page = listMessages(from.db, folder.id, after + 1, folder.nextUid, A_PAGE);
        const last = page.at(-1);
        if (!last) break;
        after = last.uid;
        const there = order.isWhole
          ? []
          : await sink.known(
              opened.part,
              page.map((one) => `text:${one.file}`),
            );
        carrier.skip(there.filter(Boolean).length);
        for (const [place, one] of page.entries()) {
          if (there[place]) continue;
          const text = textOf(from, one.file);
          if (typeof text === 'string') carrier.leaveOut(`message ${one.uid}`, text);
          else
            await carrier.add({
              text: one.prefix === '' ? text : Buffer.concat([Buffer.from(one.prefix, 'utf8'), text]),
              flags: one.flags,
              keywords: one.keywords,
              internalDate: one.internalDate,
              key: null,
            });
        }
      }
    }
    await carrier.flush();
    sink.close(opened.part, null);
  } catch (error) {
    if (!(error instanceof MailboxRefused)) throw error;
    sink.close(opened.part, error.message);
  }
}

/** A text of a backup; why not, where it is not what it was. */
function textOf({ target, db }: { target: BackupTarget; db: Readable }, file: string): Buffer | string {
  const unfiled = db.one<{ content: Buffer }>('SELECT content FROM unfiled_text WHERE name = ?', file)?.content;
  if (unfiled) return unfiled;
  try {
    const text = readFileSync(target.texts.of(file));
    return createHash('sha256').update(text).digest('hex') === file ? text : 'Its text in the backup does not match its checksum.';
  } catch (error) {
    return `Its text can’t be read: ${reasonOf(error)}.`;
  }
}

export interface FolderContent {
  folder: string;
  messages: number;
  bytes: number;
}

/** What a backup has of a mailbox, folder by folder; null where it has no such mailbox. */
export function contentOf(db: Readable, address: string): FolderContent[] | null {
  const [mailbox] = mailboxesIn(db, address).filter((one) => one.address === address);
  return mailbox ? listFolders(db, mailbox.id).map(({ name, messages, bytes }) => ({ folder: name, messages, bytes })) : null;
}
