import { isOwnMachine } from '../address/reach.ts';
import { type Lookup, lookUp, type MxValue } from '../records/answers.ts';

export type MailHosts =
  | { kind: 'hosts'; hosts: { name: string; address: string }[] }
  /** Nothing to try, now or ever. */
  | { kind: 'never'; status: string; reason: string }
  /** DNS gave no answer; trying later may help. */
  | { kind: 'later'; reason: string };

/** Hosts with an address that are tried, and names that are looked up for them. */
const MOST_HOSTS = 10;
const MOST_NAMES = 50;
const MOST_ADDRESSES = 40;

/** Where mail for an outside domain is to be brought, in the order of trying (RFC 5321 §5.1). `shuffle` orders hosts of one preference. */
export async function findMailHosts(
  domain: string,
  own: { name: string; addresses: readonly string[] },
  lookup: Lookup,
  shuffle: (hosts: MxValue[]) => MxValue[],
): Promise<MailHosts> {
  const answer = await lookUp(lookup, domain, 'MX');
  if (answer.kind === 'failed') return { kind: 'later', reason: `no answer for the MX records of ${domain}: ${answer.reason}` };
  if (answer.kind === 'none' && answer.reason === 'no-such-name')
    return { kind: 'never', status: '5.1.2', reason: `The domain ${domain} does not exist` };
  // Without MX the domain's own address is meant.
  let exchanges: MxValue[] = answer.kind === 'found' ? answer.values : [{ preference: 0, exchange: domain }];
  // RFC 7505 §3
  if (exchanges.length === 1 && exchanges[0]?.exchange === '')
    return { kind: 'never', status: '5.1.10', reason: `${domain} receives no mail (null MX)` };
  const ours = exchanges.find(({ exchange }) => exchange === own.name);
  // §5.1: records as bad as ours or worse are left out, or mail would go in circles.
  if (ours) exchanges = exchanges.filter(({ preference }) => preference < ours.preference);
  if (exchanges.length === 0)
    return { kind: 'never', status: '5.4.6', reason: `The MX records of ${domain} point to this server, which has no such domain` };
  const ordered = shuffle(exchanges).sort((one, other) => one.preference - other.preference);
  const hosts: { name: string; address: string }[] = [];
  let unanswered: string | null =
    ordered.length > MOST_NAMES ? `none of the first ${MOST_NAMES} mail hosts of ${domain} has an address` : null;
  let found = 0;
  for (const { exchange } of ordered.slice(0, MOST_NAMES)) {
    if (found >= MOST_HOSTS || hosts.length >= MOST_ADDRESSES) break;
    if (exchange === '') continue;
    const before = hosts.length;
    for (const type of ['AAAA', 'A'] as const) {
      const addresses = await lookUp(lookup, exchange, type);
      if (addresses.kind === 'failed') unanswered = `no answer for the address of ${exchange}: ${addresses.reason}`;
      else if (addresses.kind === 'found')
        hosts.push(
          // A stranger's MX may lead to this machine under any name: what trusts it must not be reached that way.
          ...addresses.values
            .filter((address) => !own.addresses.includes(address) && !isOwnMachine(address))
            .map((address) => ({ name: exchange, address })),
        );
    }
    if (hosts.length > before) found += 1;
  }
  if (hosts.length > 0) return { kind: 'hosts', hosts: hosts.slice(0, MOST_ADDRESSES) };
  if (unanswered) return { kind: 'later', reason: unanswered };
  return { kind: 'never', status: '5.4.4', reason: `No mail host of ${domain} has an address` };
}
