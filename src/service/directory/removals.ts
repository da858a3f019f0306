import { domainsCatchingTo, endCatchAll } from '../../store/domains.ts';
import { addEntry } from '../../store/journeys.ts';
import { endCopiesTo, mailboxesCopyingTo } from '../../store/mailbox-copies.ts';
import { removeAlias, setTargets } from '../../store/mailboxes.ts';
import { endLeading } from '../../store/moved-addresses.ts';
import type { DirectoryDeps } from './deps.ts';

export interface Removal {
  /** What goes with it, in words, one thing a line. */
  goes: string[];
  stays: string[];
}

type TargetedAlias = { id: number; address: string; targets: string[] };

/** Says what an alias loses when some of its targets go. */
export function aliasLoss(alias: TargetedAlias, goes: (target: string) => boolean): string {
  return alias.targets.every(goes)
    ? `the alias ${alias.address}, which has no other target`
    : `the alias ${alias.address} loses the target ${alias.targets.filter(goes).join(', ')}`;
}

/** What else leads to an address, or to any address of a domain (`@domain`), in words. */
export const leadsElsewhere = ({ db }: DirectoryDeps, address: string): string[] => [
  ...domainsCatchingTo(db, address).map((one) => `the catch-all of ${one.name}, which is ${one.catchAll}`),
  ...mailboxesCopyingTo(db, address).map((one) => `the copies that ${one.mailbox} forwards to ${one.address}`),
];

/** Nothing leads any more to an address, or to any address of a domain: whoever has that name later gets no mail that was meant for another. */
export function endLeadingTo({ db, clock }: DirectoryDeps, address: string): void {
  for (const { id, name, catchAll } of domainsCatchingTo(db, address)) {
    endCatchAll(db, id);
    addEntry(db, { at: clock.now(), journeyId: null, domain: name, event: 'domain-changed', data: { catchAll: null, before: catchAll } });
  }
  for (const { mailbox, domain, address: copy } of mailboxesCopyingTo(db, address))
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain,
      event: 'mailbox-changed',
      data: { address: mailbox, password: false, quotaBytes: null, copiesEnded: copy },
    });
  endCopiesTo(db, address);
  endLeading(db, address);
}

/** Takes targets away from aliases, and aliases away that have none left, so that nothing leads nowhere. */
export function dropTargets({ db }: DirectoryDeps, aliases: readonly TargetedAlias[], goes: (target: string) => boolean): void {
  for (const alias of aliases) {
    const left = alias.targets.filter((target) => !goes(target));
    if (left.length === 0) removeAlias(db, alias.id);
    else setTargets(db, alias.id, left);
  }
}

export const count = (number: number, one: string, more = `${one}s`): string => `${number} ${number === 1 ? one : more}`;
