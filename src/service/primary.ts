import { isIpAddress } from '../core/address/ip-address.ts';
import { withoutTag } from '../core/address/mailbox-address.ts';
import { findMailHosts, type MailHosts } from '../core/routing/mail-hosts.ts';
import type { Destination } from '../core/routing/recipients.ts';
import type { DomainFacts } from '../store/domains.ts';
import { findKnown, keepKnown } from '../store/known-recipients.ts';
import type { ServiceContext } from './context.ts';
import type { RemoteHost } from './deliver.ts';

export type PrimaryAnswer = { kind: 'yes' } | { kind: 'no'; text: string } | { kind: 'unknown' };

const DAY = 24 * 3_600_000;
const YES_FRESH_MS = DAY;
const NO_FRESH_MS = 10 * 60_000;
/** While the primary is down, what it said this lately still counts. */
export const YES_KEPT_MS = 30 * DAY;
const MAIL_PORT = 25;

/** `host`, `host:port` or `[2001:db8::1]:port`. */
export function readHandTo(text: string): { name: string; port: number } {
  const found = /^(?:\[([^\]]+)\]|([^:]+))(?::(\d{1,5}))?$/.exec(text);
  return { name: found?.[1] ?? found?.[2] ?? text, port: Number(found?.[3] ?? MAIL_PORT) };
}

/** The hosts that have a domain's mailboxes: the one that was named, or those whose MX is better than ours. */
export async function primaryHosts(
  { lookup, host }: Pick<ServiceContext, 'lookup' | 'host'>,
  domain: string,
  handTo: string | null,
): Promise<{ kind: 'hosts'; hosts: RemoteHost[] } | Exclude<MailHosts, { kind: 'hosts' }>> {
  const remote = (name: string, address: string, port: number): RemoteHost => ({ ...PLAIN, name, address, port });
  if (handTo === null) {
    const found = await findMailHosts(domain, host, lookup, (values) => values);
    return found.kind === 'hosts' ? { kind: 'hosts', hosts: found.hosts.map((one) => remote(one.name, one.address, MAIL_PORT)) } : found;
  }
  const { name, port } = readHandTo(handTo);
  return addressesOf(lookup, name, (address) => remote(name, address, port));
}

/** All addresses of a host that was named by hand, IPv6 first. */
export async function addressesOf(
  lookup: ServiceContext['lookup'],
  name: string,
  make: (address: string) => RemoteHost,
): Promise<{ kind: 'hosts'; hosts: RemoteHost[] } | Exclude<MailHosts, { kind: 'hosts' }>> {
  if (isIpAddress(name)) return { kind: 'hosts', hosts: [make(name)] };
  const hosts: RemoteHost[] = [];
  let failure: string | null = null;
  for (const type of ['AAAA', 'A'] as const) {
    const answer = await lookup(name, type);
    if (answer.kind === 'found') hosts.push(...answer.values.map(make));
    else if (answer.kind === 'failed') failure = answer.reason;
  }
  if (hosts.length > 0) return { kind: 'hosts', hosts };
  // A host that somebody has typed in may be mended by them: never final.
  return { kind: 'later', reason: failure ? `no answer for the address of ${name}: ${failure}` : `${name} has no address` };
}

const PLAIN: Omit<RemoteHost, 'name' | 'address' | 'port'> = {
  tls: 'offered',
  verify: false,
  credentials: null,
  sourceIpv4: null,
  sourceIpv6: null,
};
export const OPPORTUNISTIC = PLAIN;

/**
 * Whether an address exists on the server that has its mailboxes, so that nothing is accepted that would have to be returned:
 * by the list that was given, by what that server said lately, or by asking it now.
 */
export async function askPrimary(context: ServiceContext, recipient: Destination, domain: DomainFacts): Promise<PrimaryAnswer> {
  const { db, clock } = context;
  const local = recipient.address.slice(0, recipient.address.lastIndexOf('@')).toLowerCase();
  if (domain.standbyList !== null) {
    const list = JSON.parse(domain.standbyList) as string[];
    return list.includes(local) || list.includes(withoutTag(local)) ? { kind: 'yes' } : { kind: 'no', text: '' };
  }
  const now = clock.now();
  const known = findKnown(db, domain.id, local);
  if (known && now - known.at < (known.isThere ? YES_FRESH_MS : NO_FRESH_MS))
    return known.isThere ? { kind: 'yes' } : { kind: 'no', text: '' };
  const answer = await ask(context, recipient, domain);
  if (answer.kind === 'unknown') return known?.isThere && now - known.at < YES_KEPT_MS ? { kind: 'yes' } : answer;
  await db.commit(() => keepKnown(db, domain.id, local, answer.kind === 'yes', now));
  return answer;
}

async function ask(context: ServiceContext, recipient: Destination, domain: DomainFacts): Promise<PrimaryAnswer> {
  const name = recipient.address.slice(recipient.address.lastIndexOf('@') + 1);
  const found = await primaryHosts(context, name, domain.handTo);
  if (found.kind !== 'hosts') return { kind: 'unknown' };
  for (const host of found.hosts) {
    const result = await context.send(host, {
      sender: null,
      recipients: [{ address: recipient.address, notify: null, original: null }],
      content: null,
      smtputf8: false,
      returnContent: null,
      envelopeId: null,
    });
    const outcome = result.kind === 'done' ? result.outcomes[0] : undefined;
    if (!outcome) continue;
    if (outcome.kind === 'taken') return { kind: 'yes' };
    return outcome.kind === 'never' ? { kind: 'no', text: `${outcome.reply.code} ${outcome.reply.text}` } : { kind: 'unknown' };
  }
  return { kind: 'unknown' };
}
