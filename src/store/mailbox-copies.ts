import type { Database } from './database.ts';

/** Where a mailbox forwards copies of what it gets. */
export function setCopies(db: Database, mailboxId: number, addresses: readonly string[]): void {
  db.run('DELETE FROM mailbox_copy WHERE mailbox_id = ?', mailboxId);
  for (const address of addresses) db.run('INSERT INTO mailbox_copy (mailbox_id, address) VALUES (?, ?)', mailboxId, address);
}

const LEADS = `(c.address = @address OR substr(c.address, instr(c.address, '@')) = @address)`;

/** Mailboxes that forward copies to an address, or to any address of a domain (`@domain`). */
export const mailboxesCopyingTo = (db: Database, address: string) =>
  db.all<{ mailbox: string; domain: string; address: string }>(
    `SELECT m.local || '@' || d.name AS mailbox, d.name AS domain, c.address FROM mailbox_copy c JOIN mailbox m ON m.id = c.mailbox_id
     JOIN domain d ON d.id = m.domain_id WHERE ${LEADS} ORDER BY mailbox`,
    { address },
  );
/** Also of mailboxes that were removed and may come back. */
export const endCopiesTo = (db: Database, address: string) => db.run(`DELETE FROM mailbox_copy AS c WHERE ${LEADS}`, { address });
