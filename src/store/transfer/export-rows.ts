import type { ExportOrder } from '../../core/transfer/order.ts';
import type { Readable } from '../read-database.ts';

export interface ExportedMailbox {
  id: number;
  address: string;
  local: string;
  name: string | null;
  quotaBytes: number;
  quotaMessages: number | null;
  isShared: boolean;
  passwordHash: string;
  createdAt: number;
}

export interface ExportedAlias {
  address: string;
  targets: string[];
}

/** The domains of an export: those of a customer, or one. */
export function domainsExported(db: Readable, { what, name }: Pick<ExportOrder, 'what' | 'name'>): { id: number; name: string }[] {
  const domain = what === 'mailbox' ? name.slice(name.lastIndexOf('@') + 1) : name;
  return what === 'customer'
    ? db.all('SELECT d.id, d.name FROM domain d JOIN customer c ON c.id = d.customer_id WHERE c.name = ? ORDER BY d.name', name)
    : db.all('SELECT id, name FROM domain WHERE name = ?', domain);
}

/** The mailboxes of a domain; only one of them where an export is about that one. */
export const mailboxesExported = (db: Readable, domainId: number, { what, name }: Pick<ExportOrder, 'what' | 'name'>): ExportedMailbox[] =>
  db
    .all<Omit<ExportedMailbox, 'isShared'> & { isShared: 0 | 1 }>(
      `SELECT m.id, m.local || '@' || d.name AS address, m.local, m.name, m.quota_bytes AS quotaBytes, m.quota_messages AS quotaMessages,
         m.is_shared AS isShared, m.password_hash AS passwordHash, m.created_at AS createdAt
       FROM mailbox m JOIN domain d ON d.id = m.domain_id WHERE d.id = ? ORDER BY m.local`,
      domainId,
    )
    .filter((one) => what !== 'mailbox' || one.address === name)
    .map((row) => ({ ...row, isShared: row.isShared === 1 }));

/** The aliases of a domain; only those that lead to one address where an export is about that one. */
export const aliasesExported = (db: Readable, domainId: number, { what, name }: Pick<ExportOrder, 'what' | 'name'>): ExportedAlias[] =>
  db
    .all<{ address: string; targets: string }>(
      `SELECT a.local || '@' || d.name AS address, (SELECT json_group_array(t.address) FROM alias_target t WHERE t.alias_id = a.id) AS targets
       FROM alias a JOIN domain d ON d.id = a.domain_id WHERE d.id = ? ORDER BY a.local`,
      domainId,
    )
    .map((row) => ({ address: row.address, targets: JSON.parse(row.targets) as string[] }))
    .filter((one) => what !== 'mailbox' || one.targets.includes(name));

/** Who opens a shared mailbox, and how. */
export const membersExported = (db: Readable, mailboxId: number): { address: string; rights: string; maySend: 0 | 1 }[] =>
  db.all(
    `SELECT m.local || '@' || d.name AS address, mm.rights, mm.may_send AS maySend FROM mailbox_member mm JOIN mailbox m ON m.id = mm.member_id JOIN domain d ON d.id = m.domain_id
     WHERE mm.mailbox_id = ? ORDER BY 1`,
    mailboxId,
  );
