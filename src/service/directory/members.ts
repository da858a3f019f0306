import { RIGHTS_OF } from '../../core/mailbox/rights.ts';
import { MEMBER_ROLES, type MemberRole } from '../../core/vocabulary.ts';
import { findDomain } from '../../store/domains.ts';
import { addEntry } from '../../store/journeys.ts';
import * as store from '../../store/shared-mailboxes.ts';
import { badInput, Problem } from '../base/problem.ts';
import type { DirectoryDeps } from './deps.ts';
import { requireMailbox } from './mailboxes.ts';

/** Somebody with whom a mailbox is shared. */
export interface MemberView {
  address: string;
  /** What they are to it; null when single rights were changed. */
  as: MemberRole | null;
  rights: string;
  maySend: boolean;
  since: number;
}

export function listMembers(context: DirectoryDeps, address: string): MemberView[] {
  const { id } = requireMailbox(context, address);
  return store
    .listMembers(context.db, id)
    .map((one) => ({ ...one, as: MEMBER_ROLES.find((role) => RIGHTS_OF[role] === one.rights) ?? null }));
}

const MOST_MEMBERS = 500;

/** Shares a mailbox with another of the same customer, or changes what that one may do with it. */
export async function shareMailbox(
  context: DirectoryDeps,
  address: string,
  { member, as, maySend }: { member: string; as: MemberRole; maySend: boolean },
): Promise<MemberView[]> {
  const { db, clock } = context;
  await db.commit(() => {
    const mailbox = requireMailbox(context, address);
    const other = requireMailbox(context, member);
    if (other.id === mailbox.id) throw badInput('member', `${mailbox.address} can’t be shared with itself.`, 'Name another mailbox.');
    const [one, two] = [mailbox, other].map(({ domain }) => findDomain(db, domain)?.customer);
    if (one !== two)
      throw badInput(
        'member',
        `${other.address} is another customer’s (${two}).`,
        `A mailbox can be shared only within its customer, ${one}.`,
      );
    const members = store.listMembers(db, mailbox.id);
    if (members.length >= MOST_MEMBERS && !members.some((known) => known.address === other.address))
      throw badInput('member', `A mailbox can have at most ${MOST_MEMBERS} members.`, 'Remove a member first.');
    store.setMember(db, mailbox.id, other.id, { rights: RIGHTS_OF[as], maySend, since: clock.now() });
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: mailbox.domain,
      event: 'mailbox-shared',
      data: { address: mailbox.address, member: other.address, as, maySend },
    });
  });
  return listMembers(context, address);
}

export async function unshareMailbox(context: DirectoryDeps, address: string, member: string): Promise<void> {
  const { db, clock } = context;
  await db.commit(() => {
    const mailbox = requireMailbox(context, address);
    const other = requireMailbox(context, member);
    if (!store.dropMember(db, mailbox.id, other.id))
      throw new Problem(
        'not-found',
        `${mailbox.address} is not shared with ${other.address}.`,
        `List its members: tenedor mailbox members ${mailbox.address}`,
      );
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: mailbox.domain,
      event: 'mailbox-unshared',
      data: { address: mailbox.address, member: other.address },
    });
  });
}
