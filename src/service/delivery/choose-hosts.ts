import { amountsOf } from '../../core/limits/amounts.ts';
import { findMailHosts, type MailHosts } from '../../core/routing/mail-hosts.ts';
import { outletsFor } from '../../core/routing/outlets.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { listOutlets, type Outlet, outletSecret } from '../../store/outlets.ts';
import type { QueueItem } from '../../store/queue.ts';
import { limitText } from '../../texts/en/limits.ts';
import type { RemoteHost } from '../base/ports.ts';
import { roomWords } from '../limits/limit-words.ts';
import { outletAsPayer } from '../limits/payer-ids.ts';
import type { Reservation } from '../limits/reservation.ts';
import type { DeliveryDeps } from './deps.ts';
import { addressesOf, primaryHosts } from './primary-hosts.ts';

const MAIL_PORT = 25;
export const SMART_HOST_PORT = 587;

export type ChosenHosts =
  | { kind: 'hosts'; hosts: RemoteHost[]; outlet: Outlet | null; reservation: Reservation | null }
  | Exclude<MailHosts, { kind: 'hosts' }>
  /** An outlet has spent its limit, or none is on. `until` when there is room again. */
  | { kind: 'wait'; reason: string; until: number | null };

/** Where mail goes next: to the server that has a domain's mailboxes, or through the first outlet that fits and has something left. */
export async function chooseHosts(
  context: DeliveryDeps,
  items: readonly QueueItem[],
  shuffle: Parameters<typeof findMailHosts>[3],
): Promise<ChosenHosts> {
  const first = items[0] as QueueItem;
  const here = findDomainFacts(context.db, first.domain);
  if (here && (here.mailRole === 'pass-on' || here.mailRole === 'standby')) {
    const found = await primaryHosts(context, first.domain, here.primaryServer);
    return found.kind === 'hosts' ? { kind: 'hosts', hosts: found.hosts, outlet: null, reservation: null } : found;
  }
  const choice = chooseOutlet(
    context,
    { senderDomain: first.senderDomain, destination: first.domain },
    { sends: items.length, bytes: first.size },
  );
  if (choice.kind === 'wait') return choice;
  const { outlet, reservation } = choice;
  const found = await hostsOf(context, outlet, first.domain, shuffle);
  if (found.kind === 'hosts') return { kind: 'hosts', hosts: found.hosts, outlet, reservation };
  if (reservation) context.limits.release(reservation);
  return found;
}

/** The outlet for a message, with room in its limits reserved. */
export function chooseOutlet(
  context: DeliveryDeps,
  question: { senderDomain: string | null; destination: string },
  asked: { sends: number; bytes: number } | null,
):
  | { kind: 'outlet'; outlet: Outlet; reservation: Reservation | null; spent: string[] }
  | { kind: 'wait'; reason: string; until: number | null } {
  const { db, limits } = context;
  const customer = question.senderDomain === null ? null : (findDomainFacts(db, question.senderDomain)?.customer ?? null);
  const outlets = outletsFor(listOutlets(db), { customer, ...question });
  const spent: string[] = [];
  let until: number | null = null;
  for (const outlet of outlets) {
    const amounts = amountsOf(asked ?? { sends: 1, bytes: 0 });
    const decision = limits.reserve(outletAsPayer(outlet.id), amounts);
    if (decision.kind === 'room') {
      if (!asked) limits.release(decision);
      return { kind: 'outlet', outlet, reservation: asked ? decision : null, spent };
    }
    const roomAt = limits.wholeSecond(decision.roomAt);
    spent.push(`the outlet “${outlet.name}” has used up its limit of ${limitText(decision.limit)}; ${roomWords(decision, roomAt)}`);
    until = until === null || (roomAt !== null && roomAt < until) ? roomAt : until;
    if (outlet.whenSpent === 'wait') break;
  }
  if (spent.length > 0) return { kind: 'wait', reason: spent.join('; '), until };
  return { kind: 'wait', reason: 'no enabled outlet matches this mail', until: null };
}

/** The hosts that an outlet brings mail for a domain to. */
export async function hostsOf(
  context: DeliveryDeps,
  outlet: Outlet,
  destination: string,
  shuffle: Parameters<typeof findMailHosts>[3],
): Promise<{ kind: 'hosts'; hosts: RemoteHost[] } | Exclude<MailHosts, { kind: 'hosts' }>> {
  const { host, lookup, keyFile, db } = context;
  const { sourceIpv4, sourceIpv6 } = outlet;
  if (outlet.kind === 'direct') {
    const found = await findMailHosts(destination, host, lookup, shuffle);
    if (found.kind !== 'hosts') return found;
    // A source address of one family only: the other family is no way out.
    const fits = ({ address }: { address: string }): boolean =>
      (sourceIpv4 === null && sourceIpv6 === null) || (address.includes(':') ? sourceIpv6 : sourceIpv4) !== null;
    const hosts = found.hosts.filter(fits).map(
      ({ name, address }): RemoteHost => ({
        name,
        address,
        port: MAIL_PORT,
        tls: outlet.tls,
        verify: false,
        credentials: null,
        sourceIpv4,
        sourceIpv6,
      }),
    );
    return hosts.length > 0
      ? { kind: 'hosts', hosts }
      : { kind: 'later', reason: `no host of ${destination} can be reached from the source addresses of the outlet “${outlet.name}”` };
  }
  const sealed = outletSecret(db, outlet.id);
  const credentials = outlet.user === null || sealed === null ? null : { user: outlet.user, password: keyFile.open(sealed) };
  const name = outlet.host ?? '';
  return addressesOf(context, name, (address) => ({
    name,
    address,
    port: outlet.port ?? SMART_HOST_PORT,
    tls: outlet.tls,
    // A password is given only to whom the certificate names.
    verify: outlet.tls === 'required' || outlet.tls === 'implicit',
    credentials,
    sourceIpv4,
    sourceIpv6,
  }));
}
