import { sharedName } from '../core/mailbox/folder-names.ts';
import type { Folder } from '../core/mailbox/operations.ts';
import type { Database } from './database.ts';
import { FOLDER_COLUMNS } from './folders.ts';
import type { Readable } from './read-database.ts';

/** Somebody who opens a mailbox under a sign-in of their own. */
export interface Member {
  address: string;
  rights: string;
  /** Whether mail may be sent as the mailbox. */
  maySend: boolean;
  since: number;
}

const ADDRESS = "m.local || '@' || d.name";

export const listMembers = (db: Readable, mailboxId: number): Member[] =>
  db
    .all<Omit<Member, 'maySend'> & { maySend: 0 | 1 }>(
      `SELECT ${ADDRESS} AS address, b.rights, b.may_send AS maySend, b.since FROM mailbox_member b JOIN mailbox m ON m.id = b.member_id
       JOIN domain d ON d.id = m.domain_id WHERE b.mailbox_id = ? ORDER BY address`,
      mailboxId,
    )
    .map((one) => ({ ...one, maySend: one.maySend === 1 }));
export const setMember = (db: Database, mailboxId: number, memberId: number, { rights, maySend, since }: Omit<Member, 'address'>) =>
  db.run(
    `INSERT INTO mailbox_member (mailbox_id, member_id, rights, may_send, since) VALUES (?, ?, ?, ?, ?)
     ON CONFLICT DO UPDATE SET rights = excluded.rights, may_send = excluded.may_send`,
    mailboxId,
    memberId,
    rights,
    Number(maySend),
    since,
  );
/** With what was said of single folders. */
export function dropMember(db: Database, mailboxId: number, memberId: number): boolean {
  db.run('DELETE FROM folder_right WHERE member_id = ? AND folder_id IN (SELECT id FROM folder WHERE mailbox_id = ?)', memberId, mailboxId);
  return db.run('DELETE FROM mailbox_member WHERE mailbox_id = ? AND member_id = ?', mailboxId, memberId).changes > 0;
}
/** Addresses of mailboxes that somebody may send as. */
export const sendableAddresses = (db: Readable, memberId: number): string[] =>
  db
    .all<{ address: string }>(
      `SELECT ${ADDRESS} AS address FROM mailbox_member b JOIN mailbox m ON m.id = b.mailbox_id JOIN domain d ON d.id = m.domain_id
       WHERE b.member_id = ? AND b.may_send = 1`,
      memberId,
    )
    .map((one) => one.address);

export type SharedFolder = Folder & { mailboxId: number };
type Row = SharedFolder & { address: string };

/** Folders of others, of some that are named, with what somebody may do with them. */
const sharedFolders = (which: string): string => `SELECT ${FOLDER_COLUMNS}, f.mailbox_id AS mailboxId, ${ADDRESS} AS address,
  coalesce(r.rights, b.rights) AS rights
  FROM (${which}) w CROSS JOIN folder f ON f.id = w.id JOIN mailbox m ON m.id = f.mailbox_id JOIN domain d ON d.id = m.domain_id
  LEFT JOIN mailbox_member b ON b.mailbox_id = f.mailbox_id AND b.member_id = ?
  LEFT JOIN folder_right r ON r.folder_id = f.id AND r.member_id = ?
  WHERE instr(coalesce(r.rights, b.rights, ''), 'l') > 0 ORDER BY address, f.name`;
const SHARED_WITH = sharedFolders(
  `SELECT f.id FROM mailbox_member b JOIN folder f ON f.mailbox_id = b.mailbox_id WHERE b.member_id = ?
   UNION SELECT folder_id FROM folder_right WHERE member_id = ?`,
);
const ONE_SHARED = sharedFolders('SELECT ? AS id');
const fromRow = ({ address, ...folder }: Row): SharedFolder => ({ ...folder, name: sharedName(address, folder.name) });

export const listSharedFolders = (db: Readable, memberId: number): SharedFolder[] =>
  db.all<Row>(SHARED_WITH, memberId, memberId, memberId, memberId).map(fromRow);
export const findSharedFolder = (db: Readable, memberId: number, id: number): SharedFolder | undefined =>
  db.all<Row>(ONE_SHARED, id, memberId, memberId).map(fromRow)[0];

export const ownerOfFolder = (db: Readable, id: number): number | undefined =>
  db.one<{ owner: number }>('SELECT f.mailbox_id AS owner FROM folder f JOIN mailbox m ON m.id = f.mailbox_id WHERE f.id = ?', id)?.owner;

/** What somebody may do with all folders of a mailbox; empty when they are no member. */
export const memberRights = (db: Readable, mailboxId: number, memberId: number): string =>
  db.one<{ rights: string }>('SELECT rights FROM mailbox_member WHERE mailbox_id = ? AND member_id = ?', mailboxId, memberId)?.rights ?? '';
/** What somebody may do with one. */
export const folderRights = (db: Readable, mailboxId: number, folderId: number, memberId: number): string =>
  db.one<{ rights: string }>('SELECT rights FROM folder_right WHERE folder_id = ? AND member_id = ?', folderId, memberId)?.rights ??
  memberRights(db, mailboxId, memberId);

/** Everybody who may do something with a folder, but its owner. */
export const listFolderRights = (db: Readable, folderId: number): { address: string; rights: string }[] =>
  db.all(
    `SELECT ${ADDRESS} AS address, coalesce(r.rights, b.rights) AS rights FROM folder f JOIN mailbox m
       ON m.id IN (SELECT member_id FROM mailbox_member WHERE mailbox_id = f.mailbox_id UNION SELECT member_id FROM folder_right WHERE folder_id = f.id)
     JOIN domain d ON d.id = m.domain_id
     LEFT JOIN mailbox_member b ON b.mailbox_id = f.mailbox_id AND b.member_id = m.id
     LEFT JOIN folder_right r ON r.folder_id = f.id AND r.member_id = m.id
     WHERE f.id = ? AND coalesce(r.rights, b.rights) <> '' ORDER BY address`,
    folderId,
  );
export const setFolderRights = (db: Database, folderId: number, memberId: number, rights: string) =>
  db.run(
    'INSERT INTO folder_right (folder_id, member_id, rights) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET rights = excluded.rights',
    folderId,
    memberId,
    rights,
  );

/** Ends what mailboxes of a domain share with those of other customers, and the other way round; returns whose and with whom. */
export function endSharesAcrossCustomers(db: Database, domainId: number): { mailbox: string; member: string }[] {
  const across = (table: string, of: string): string =>
    `FROM ${table} s JOIN kept_mailbox m ON m.id = ${of} JOIN kept_mailbox o ON o.id = s.member_id
     JOIN domain dm ON dm.id = m.domain_id JOIN domain do ON do.id = o.domain_id
     WHERE (dm.id = @domainId OR do.id = @domainId) AND dm.customer_id <> do.customer_id`;
  const folderOwner = '(SELECT mailbox_id FROM folder WHERE id = s.folder_id)';
  const ended = db.all<{ mailbox: string; member: string }>(
    `SELECT m.local || '@' || dm.name AS mailbox, o.local || '@' || do.name AS member ${across('mailbox_member', 's.mailbox_id')}
     UNION SELECT m.local || '@' || dm.name, o.local || '@' || do.name ${across('folder_right', folderOwner)}`,
    { domainId },
  );
  db.run(
    `DELETE FROM mailbox_member WHERE (mailbox_id, member_id) IN (SELECT s.mailbox_id, s.member_id ${across('mailbox_member', 's.mailbox_id')})`,
    { domainId },
  );
  db.run(
    `DELETE FROM folder_right WHERE (folder_id, member_id) IN (SELECT s.folder_id, s.member_id ${across('folder_right', folderOwner)})`,
    { domainId },
  );
  return ended;
}
