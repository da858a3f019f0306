import { breathe } from '../../core/pieces.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { addEntry } from '../../store/journeys.ts';
import * as store from '../../store/mailboxes.ts';
import { emptyMailbox } from '../../store/messages.ts';
import * as removed from '../../store/removed-mailboxes.ts';
import { forgetRemovedOne, noteRemoved } from '../../store/removed-scopes.ts';
import { Problem } from '../base/problem.ts';
import { earlier } from '../base/service-clock.ts';
import type { DirectoryDeps } from './deps.ts';
import { requireDomain, requireHome } from './domains.ts';
import { requireFree, requireMailbox } from './mailboxes.ts';
import { aliasLoss, count, dropTargets, endLeadingTo, leadsElsewhere, type Removal } from './removals.ts';

const DAY = 86_400_000;

/** A removed mailbox, with the time until which it can be brought back. */
export type RemovedMailbox = Omit<removed.RemovedMailbox, 'aliases' | 'local' | 'domain'> & { keptUntil: number };

const shown = (
  { keepRemovedDays }: DirectoryDeps,
  { id, address, removedAt, messages, usedBytes }: removed.RemovedMailbox,
): RemovedMailbox => ({ id, address, removedAt, messages, usedBytes, keptUntil: removedAt + keepRemovedDays * DAY });

function requireNotPostmaster({ host }: DirectoryDeps, address: string): void {
  if (host.postmaster === address)
    throw new Problem(
      'in-use',
      `${address} gets mail to postmaster and abuse of every domain.`,
      'Name another address as host.postmaster in the configuration file, and restart.',
    );
}

export function mailboxRemoval(context: DirectoryDeps, address: string): Removal {
  const { db, keepRemovedDays } = context;
  const mailbox = requireMailbox(context, address);
  requireNotPostmaster(context, mailbox.address);
  const messages = count(mailbox.messages, 'message');
  return {
    goes: [
      ...(keepRemovedDays === 0 ? [messages] : []),
      ...store.aliasesLeadingTo(db, mailbox.address).map((alias) => aliasLoss(alias, (target) => target === mailbox.address)),
      ...leadsElsewhere(context, mailbox.address),
    ],
    stays: [
      ...(keepRemovedDays === 0 ? [] : [`its ${messages}, for ${count(keepRemovedDays, 'day')}: until then it can be restored`]),
      'journeys of its messages, and its ledger entries',
    ],
  };
}

/** Removes a mailbox: for everybody it is gone at once. Its messages are kept for the days that the host keeps them. */
export async function removeMailbox(context: DirectoryDeps, address: string): Promise<void> {
  const { db, clock, keepRemovedDays } = context;
  const id = await db.commit(() => {
    const mailbox = requireMailbox(context, address);
    requireNotPostmaster(context, mailbox.address);
    const aliases = store.aliasesLeadingTo(db, mailbox.address);
    dropTargets(context, aliases, (target) => target === mailbox.address);
    endLeadingTo(context, mailbox.address);
    noteRemoved(db, { kind: 'mailbox', id: mailbox.id, name: mailbox.address, domain: mailbox.domain, at: clock.now() });
    removed.setAside(
      db,
      mailbox.id,
      aliases.map((one) => one.address),
      earlier(clock),
    );
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: mailbox.domain,
      event: 'mailbox-removed',
      data: { address: mailbox.address },
    });
    return mailbox.id;
  });
  if (keepRemovedDays === 0) await deleteWhole(context, id);
}

async function deleteWhole({ db }: DirectoryDeps, id: number): Promise<boolean> {
  await emptyMailbox(db, id);
  // Brought back while it was emptied, it stays, with what it still has.
  return db.commit(() => removed.findRemovedMailbox(db, id) !== undefined && store.removeMailbox(db, id).changes > 0);
}

export const listRemoved = (context: DirectoryDeps, domain: string): RemovedMailbox[] =>
  removed.listRemoved(context.db, requireDomain(context, domain).id).map((one) => shown(context, one));

function requireRemoved({ db }: DirectoryDeps, id: number): removed.RemovedMailbox {
  const found = removed.findRemovedMailbox(db, id);
  if (!found)
    throw new Problem(
      'not-found',
      `There is no removed mailbox ${id}.`,
      'List a domain’s removed mailboxes: tenedor mailbox removed DOMAIN',
    );
  return found;
}

/** Puts a removed mailbox back as it was, with its password, folders and messages; aliases lead to it again as far as their addresses are free. */
export async function bringBack(context: DirectoryDeps, id: number): Promise<{ mailbox: store.Mailbox; aliasesLeft: string[] }> {
  const { db, clock } = context;
  const done = await db.commit(() => {
    const one = requireRemoved(context, id);
    const domain = requireDomain(context, one.domain);
    requireHome(domain);
    requireFree(context, one.local, domain.name);
    if (store.listMailboxes(db, domain.id).length >= domain.mostMailboxes)
      throw new Problem(
        'plan-full',
        `${domain.name} has the ${count(domain.mostMailboxes, 'mailbox', 'mailboxes')} that its plan “${domain.plan}” allows.`,
        'Give the domain a larger plan, or remove a mailbox.',
      );
    removed.putBack(db, id);
    forgetRemovedOne(db, 'mailbox', id);
    addEntry(db, { at: clock.now(), journeyId: null, domain: domain.name, event: 'mailbox-brought-back', data: { address: one.address } });
    return { address: one.address, aliasesLeft: one.aliases.filter((alias) => !leadAgain(context, alias, one.address)) };
  });
  return { mailbox: requireMailbox(context, done.address), aliasesLeft: done.aliasesLeft };
}

/** An alias leads to a mailbox again; false when its address is somebody else's now, or its domain has no addresses here. */
function leadAgain({ db, clock }: DirectoryDeps, address: string, target: string): boolean {
  const [local = '', domainName = ''] = address.split('@');
  const domain = findDomainFacts(db, domainName);
  if (domain?.role !== 'home' || store.findMailbox(db, local, domainName)) return false;
  const before = store.findAlias(db, local, domainName);
  const targets = [...new Set([...(before?.targets ?? []), target])];
  if (before) store.setTargets(db, before.id, targets);
  else store.addAlias(db, domain.id, local, targets, clock.now());
  addEntry(db, {
    at: clock.now(),
    journeyId: null,
    domain: domainName,
    event: before ? 'alias-changed' : 'alias-added',
    data: { address, targets },
  });
  return true;
}

export function removedRemoval(context: DirectoryDeps, id: number): Removal {
  return { goes: [count(requireRemoved(context, id).messages, 'message')], stays: ['journeys of its messages, and its ledger entries'] };
}

/** Deletes a removed mailbox for good. */
export async function deleteRemoved(context: DirectoryDeps, id: number): Promise<void> {
  const { db, clock } = context;
  const { address, domain } = requireRemoved(context, id);
  if (await deleteWhole(context, id))
    await db.commit(() => addEntry(db, { at: clock.now(), journeyId: null, domain, event: 'removed-mailbox-deleted', data: { address } }));
}

/** Deletes those whose time has passed. */
export async function deleteOutdated(context: DirectoryDeps, isOver: () => boolean): Promise<void> {
  const { db, clock, keepRemovedDays } = context;
  for (;;) {
    const some = removed.removedBefore(db, earlier(clock) - keepRemovedDays * DAY);
    if (some.length === 0) return;
    for (const { id } of some) {
      if (isOver()) return;
      await deleteWhole(context, id);
      await breathe();
    }
  }
}
