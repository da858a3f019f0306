import { parseAddress } from '../../core/address/mailbox-address.ts';
import { addEntry } from '../../store/journeys.ts';
import * as store from '../../store/moved-addresses.ts';
import { badInput, Problem } from '../base/problem.ts';
import type { DirectoryDeps } from './deps.ts';
import { requireDomain, requireHome } from './domains.ts';
import { localAddress, requireFree } from './mailboxes.ts';

const DAY = 86_400_000;

export interface NewMove {
  address: string;
  /** Where its owner is now; null where that is not told. */
  to: string | null;
  /** For so many days mail is led there; 0 for not at all. */
  forwardDays: number;
}

/** Notes that the owner of an address is elsewhere. The address must be nobody's here. */
export async function addMove(context: DirectoryDeps, { address, to, forwardDays }: NewMove): Promise<store.MovedAddress> {
  const { db, clock } = context;
  const { local, domain: domainName } = localAddress(address);
  const target = to === null ? null : newAddress(to, `${local}@${domainName}`);
  if (target === null && forwardDays > 0)
    throw badInput('to', 'Forwarding needs a new address.', 'Give one, or set the days of forwarding to 0.');
  await db.commit(() => {
    const domain = requireDomain(context, domainName);
    requireHome(domain);
    requireFree(context, local, domain.name);
    const now = clock.now();
    store.addMoved(db, {
      domainId: domain.id,
      local,
      to: target,
      forwardUntil: forwardDays > 0 ? now + forwardDays * DAY : null,
      since: now,
    });
    const data = { address: `${local}@${domain.name}`, to: target, forwardDays };
    addEntry(db, { at: now, journeyId: null, domain: domain.name, event: 'address-moved', data });
  });
  return requireMoved(context, address);
}

function newAddress(text: string, own: string): string {
  const parsed = parseAddress(text.trim());
  if (parsed.kind === 'invalid')
    throw badInput('to', `“${text.slice(0, 80)}” is not an address: ${parsed.reason}.`, 'Write it like ana@elsewhere.example.');
  const found = `${parsed.address.local}@${parsed.address.domain}`;
  if (found.toLowerCase() === own.toLowerCase())
    throw badInput('to', 'The new address is the same as the old one.', 'Give another address.');
  return found;
}

function requireMoved({ db }: DirectoryDeps, address: string): store.MovedAddress {
  const { local, domain } = localAddress(address, null);
  const found = store.findMoved(db, local, domain.toLowerCase());
  if (!found)
    throw new Problem('not-found', `${address.slice(0, 320)} has not moved.`, 'List a domain’s moved addresses: tenedor moved list DOMAIN');
  return found;
}

export const listMoved = (context: DirectoryDeps, domain: string, asked: Parameters<typeof store.pageOfMoved>[2]) =>
  store.pageOfMoved(context.db, requireDomain(context, domain).id, asked);

/** The address is free again: mail to it is refused as to one that never was. */
export async function removeMove(context: DirectoryDeps, address: string): Promise<void> {
  const { db, clock } = context;
  await db.commit(() => {
    const one = requireMoved(context, address);
    store.removeMoved(db, one.address.slice(0, one.address.lastIndexOf('@')), one.domain);
    addEntry(db, { at: clock.now(), journeyId: null, domain: one.domain, event: 'move-forgotten', data: { address: one.address } });
  });
}
