import { parseAddress } from '../../core/address/mailbox-address.ts';
import type { MailboxOperation, OperationResult } from '../../core/mailbox/operations.ts';
import { changedRights } from '../../core/mailbox/rights.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { findFolderNamed } from '../../store/folders.ts';
import { addEntry } from '../../store/journeys.ts';
import { addressOfMailbox, lookUpMailbox } from '../../store/mailboxes.ts';
import { folderRights, setFolderRights } from '../../store/shared-mailboxes.ts';
import type { MailboxDeps } from './deps.ts';
import { NO_FOLDER, refused } from './operation-refusals.ts';

/** Changes what another mailbox of the same customer may do with a folder; within a commit. */
export function grant(
  { db, clock }: MailboxDeps,
  mailboxId: number,
  { name, who, how, rights }: Extract<MailboxOperation, { kind: 'grant' }>,
): OperationResult {
  const folder = findFolderNamed(db, mailboxId, name);
  const owner = addressOfMailbox(db, mailboxId);
  if (!folder || owner === undefined) return NO_FOLDER;
  const parsed = parseAddress(who);
  const { local = '', domain = '' } = parsed.kind === 'ok' ? parsed.address : {};
  const member = lookUpMailbox(db, local.toLowerCase(), domain);
  const customerOf = (address: string): number | null | undefined =>
    findDomainFacts(db, address.slice(address.lastIndexOf('@') + 1))?.customerId;
  // Whether there is such a mailbox at another customer's is nobody's business here.
  if (!member || customerOf(owner) !== customerOf(`@${domain}`))
    return refused('not-possible', 'There is no such mailbox of the same customer');
  if (member.id === mailboxId) return refused('not-possible', 'The owner of a folder always has all rights');
  const left = changedRights(folderRights(db, mailboxId, folder.id, member.id), how, rights);
  setFolderRights(db, folder.id, member.id, left);
  addEntry(db, {
    at: clock.now(),
    journeyId: null,
    domain: owner.slice(owner.lastIndexOf('@') + 1),
    event: 'folder-rights-changed',
    data: { address: owner, folder: name, member: `${local.toLowerCase()}@${domain}`, rights: left },
  });
  return { kind: 'done' };
}
