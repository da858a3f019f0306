import { addedNames } from '../../store/certificates.ts';
import * as store from '../../store/domains.ts';
import { addEntry } from '../../store/journeys.ts';
import { forgetRemovedDomainKeys, keepForWaiting } from '../../store/keys.ts';
import { aliasesLeadingTo, listAliases, listMailboxes, removeMailbox } from '../../store/mailboxes.ts';
import { emptyMailbox } from '../../store/messages.ts';
import { listRemoved } from '../../store/removed-mailboxes.ts';
import { noteRemoved } from '../../store/removed-scopes.ts';
import { findZone } from '../../store/zones.ts';
import { Problem } from '../base/problem.ts';
import type { DirectoryDeps } from './deps.ts';
import { requireDomain } from './domains.ts';
import { aliasLoss, count, dropTargets, endLeadingTo, leadsElsewhere, type Removal } from './removals.ts';

/** What removing a domain takes along. */
export function domainRemoval(context: DirectoryDeps, name: string): Removal {
  const { db } = context;
  const domain = requireDomain(context, name);
  const mailboxes = listMailboxes(db, domain.id);
  const removed = listRemoved(db, domain.id);
  const messages = mailboxes.reduce((sum, one) => sum + one.messages, 0);
  const goes = [
    `${count(mailboxes.length, 'mailbox', 'mailboxes')} with ${count(messages, 'message')}`,
    `${count(listAliases(db, domain.id).length, 'alias', 'aliases')}`,
    ...(removed.length === 0 ? [] : [`${count(removed.length, 'mailbox', 'mailboxes')} removed earlier that could still be restored`]),
    'its DKIM keys and limits',
  ];
  for (const alias of aliasesLeadingTo(db, `@${domain.name}`)) goes.push(aliasLoss(alias, (target) => target.endsWith(`@${domain.name}`)));
  goes.push(...leadsElsewhere(context, `@${domain.name}`));
  return {
    goes,
    stays: [
      'journeys of its messages, its queued mail, and its ledger entries',
      'its mail in backups',
      ...addedNames(db)
        .filter((one) => one === domain.name || one.endsWith(`.${domain.name}`))
        .map((one) => `the certificate that was added for ${one}: tenedor certificate remove ${one}`),
      ...(findZone(db, domain.name) ? [`the key with which its zone is updated: tenedor zone remove ${domain.name}`] : []),
    ],
  };
}

export async function removeDomain(context: DirectoryDeps, name: string): Promise<void> {
  const { db, clock } = context;
  const requireWithoutTwins = (): ReturnType<typeof requireDomain> => {
    const domain = requireDomain(context, name);
    const twins = store.twinsOf(db, domain.id);
    if (twins.length > 0)
      throw new Problem('in-use', `${domain.name} has twins: ${twins.join(', ')}.`, 'End that first: tenedor twin remove DOMAIN');
    return domain;
  };
  const { id, name: called } = requireWithoutTwins();
  for (const one of [...listMailboxes(db, id), ...listRemoved(db, id)]) if (one.messages > 0) await emptyMailbox(db, one.id);
  const gone = (one: { id: number; address: string }): void => {
    noteRemoved(db, { kind: 'mailbox', id: one.id, name: one.address, domain: called, at: clock.now() });
  };
  // Thousands of them in one commit would keep everybody waiting.
  await db.commitInPieces(listMailboxes(db, id), (some) => {
    const removed = some.filter((one) => removeMailbox(db, one.id).changes > 0);
    removed.forEach(gone);
    return removed.length;
  });
  await db.commit(() => {
    const domain = requireWithoutTwins();
    dropTargets(context, aliasesLeadingTo(db, `@${domain.name}`), (target) => target.endsWith(`@${domain.name}`));
    endLeadingTo(context, `@${domain.name}`);
    // What waits still leaves signed.
    keepForWaiting(db, domain);
    const at = clock.now();
    for (const one of listMailboxes(db, domain.id)) gone(one);
    noteRemoved(db, { kind: 'domain', id: domain.id, name: domain.name, domain: domain.name, at });
    store.removeDomain(db, domain.id);
    addEntry(db, { at: clock.now(), journeyId: null, domain: domain.name, event: 'domain-removed', data: {} });
  });
  // Whether anything waits takes long to say where much does.
  await forgetRemovedDomainKeys(db);
}
