import { acceptMessage } from '../../src/service/acceptance/accept-message.ts';
import { plainRecipient } from '../../src/service/acceptance/planned-recipient.ts';
import { findDomainFacts } from '../../src/store/domains.ts';
import type { Payer } from '../../src/store/ledger.ts';
import { findMailbox } from '../../src/store/mailboxes.ts';
import { type Bare, journeyOf } from './context.ts';

let serial = 0;

/** Accepts a message of a mailbox to the outside that waits for room under its domain's limit. */
export async function holdMessage({ context, clock }: Bare, from: string, to: readonly string[]): Promise<string> {
  serial += 1;
  const id = `held${serial}x${clock.wall}`;
  const at = from.lastIndexOf('@');
  const domain = from.slice(at + 1);
  const facts = findDomainFacts(context.db, domain);
  const payer: Payer = {
    customerId: facts?.customerId ?? null,
    domainId: facts?.id ?? null,
    mailboxId: findMailbox(context.db, from.slice(0, at), domain)?.id ?? null,
    networkId: null,
    domain,
    mailbox: from,
    kind: 'submitted',
  };
  await acceptMessage(context, {
    journey: { ...journeyOf(id, clock.wall, from), domain, mailbox: from, recipients: to.join(', ') },
    content: Buffer.from(`Subject: ${id}\r\n\r\nx\r\n`),
    recipients: to.map((address) => ({
      ...plainRecipient({ kind: 'outside', address, domain: address.slice(address.lastIndexOf('@') + 1), payer: null }),
      held: 'limit',
      fullScope: `domain ${facts?.id}`,
    })),
    steps: [],
    folder: 'Inbox',
    payer: { reservation: null, payer, bytes: 1000 },
  });
  return id;
}
