import { parseDomain } from '../address/domain.ts';
import { organisationalDomain } from '../dmarc/record.ts';
import { answerText, type Lookup, lookUp } from '../records/answers.ts';
import { listLabel, sameAddress } from '../records/reverse-name.ts';
import { type HostFacts, hostRecords } from '../records/sheet.ts';
import { type Finding, type FindingDraft, type SubjectFacts, settledFindings, unanswered } from './finding.ts';

export interface HostCheckFacts {
  host: HostFacts;
  /** The name that answers at the host's own address and port 25; null when nothing was reached from here. */
  greeting: string | null;
  /** Names of block lists to ask (RFC 5782). */
  blockLists: readonly string[];
  /** Each resolver that this server asks, and why it gave no answer about the host; null when it gave one. */
  resolvers: readonly { address: string; fault: string | null }[];
}

/** Is the host called and found as other servers want it? Its reverse names have a check of their own. */
export async function checkHost({ host, greeting, blockLists, resolvers }: HostCheckFacts, lookup: Lookup): Promise<Finding[]> {
  const publish = hostRecords(host).filter((record) => record.subject === 'host');
  const facts: SubjectFacts = { subject: 'host', name: host.name, expected: [...host.addresses], seen: [] };
  const silent = silentResolvers(resolvers);
  const faults: FindingDraft[] = [...silent];
  if (parseDomain(host.name).kind === 'invalid' || !host.name.includes('.'))
    faults.push({
      code: 'host-not-qualified',
      verdict: 'wrong',
      headline: `“${host.name}” is not a fully qualified host name.`,
      remedy: 'Set host.name in the configuration to a name like mail.provider.example, and restart the service.',
    });
  else if (organisationalDomain(host.name) === host.name)
    faults.push({
      code: 'host-bare-domain',
      verdict: 'weak',
      headline: `The host is called ${host.name}, like the whole domain.`,
      remedy: `Give it its own name, for example mail.${host.name}, in the configuration, in DNS and in the reverse records.`,
    });
  const missing: string[] = [];
  for (const address of host.addresses) {
    const forward = await lookUp(lookup, host.name, address.includes(':') ? 'AAAA' : 'A');
    if (forward.kind === 'failed')
      return silent.length > 0 ? settledFindings(facts, silent, silent[0] as FindingDraft) : unanswered(facts, forward.reason);
    if (forward.alias && !faults.some((one) => one.code === 'host-alias'))
      faults.push({
        code: 'host-alias',
        verdict: 'wrong',
        headline: `${host.name} is an alias (CNAME) of ${forward.alias}.`,
        remedy: 'Publish the addresses below under the name itself, and remove the CNAME.',
        publish,
      });
    if (forward.kind === 'found') facts.seen.push(...forward.values);
    if (forward.kind === 'none' || !forward.values.some((value) => sameAddress(value, address))) missing.push(address);
  }
  if (missing.length > 0)
    faults.push({
      code: 'host-no-forward',
      verdict: missing.length === host.addresses.length ? 'missing' : 'wrong',
      headline: `${host.name} does not resolve to ${missing.join(' and ')}.`,
      remedy: 'Publish the records below in the host’s zone.',
      publish: publish.filter((record) => missing.includes(record.value)),
    });
  if (greeting !== null && greeting.toLowerCase() !== host.name)
    faults.push({
      code: 'host-greeting-differs',
      verdict: 'wrong',
      headline: `The server at the host’s own address greets as ${greeting}, not as ${host.name}.`,
      remedy: 'Find out what answers on port 25 there: another program, or a firewall that redirects.',
    });
  for (const list of blockLists) faults.push(...(await askList(list, host.addresses, lookup)));
  return settledFindings(facts, faults, {
    code: 'host-good',
    verdict: 'good',
    headline: `The name resolves to the host’s ${host.addresses.length === 1 ? 'address' : 'addresses'}${blockLists.length > 0 ? ', and no block list has them' : ''}.`,
  });
}

/** Each resolver by itself: while another one answers, nobody else would tell that it is dead. */
function silentResolvers(resolvers: HostCheckFacts['resolvers']): FindingDraft[] {
  const dead = resolvers.filter((one) => one.fault !== null);
  if (dead.length === 0) return [];
  const which = dead.map((one) => one.address).join(' and ');
  const all = dead.length === resolvers.length;
  return [
    {
      code: 'host-resolver-silent',
      verdict: 'wrong',
      headline: `${all ? (resolvers.length === 1 ? 'The only resolver' : 'No resolver') : 'The resolver'} ${all && resolvers.length > 1 ? 'answers' : `${which} gives no answer`}: ${dead[0]?.fault}.`,
      name: dead[0]?.address ?? '',
      expected: ['an answer from each resolver'],
      seen: dead.map((one) => `${one.address}: ${one.fault}`),
      remedy: 'Check that it is running and reachable, or set another one as dns.resolvers in the configuration, and restart.',
    },
  ];
}

/** RFC 5782 §5: a list that works has 127.0.0.2 and does not have 127.0.0.1. */
async function askList(list: string, addresses: readonly string[], lookup: Lookup): Promise<FindingDraft[]> {
  const query = (address: string) => lookUp(lookup, `${listLabel(address)}.${list}`, 'A');
  const test = await query('127.0.0.2');
  const never = await query('127.0.0.1');
  if (test.kind !== 'found' || never.kind !== 'none')
    return [
      {
        code: 'host-list-dead',
        verdict: 'unknown',
        headline: `The block list ${list} does not work: its test entry gave ${answerText(test)}, its counter-test ${answerText(never)}.`,
        name: list,
        remedy: 'Check that the list still exists and answers your resolver, or remove it from the configuration.',
      },
    ];
  const faults: FindingDraft[] = [];
  for (const address of addresses) {
    const entry = await query(address);
    // §2.1: entries lie in 127.0.0.0/8; anything else is no entry.
    if (entry.kind !== 'found' || !entry.values.some((value) => value.startsWith('127.'))) continue;
    const reason = await lookUp(lookup, `${listLabel(address)}.${list}`, 'TXT');
    faults.push({
      code: 'host-listed',
      verdict: 'wrong',
      headline: `${address} is on the block list ${list}${reason.kind === 'found' ? `: ${reason.values.join(' ').slice(0, 200)}` : ''}.`,
      name: `${listLabel(address)}.${list}`,
      seen: [answerText(entry)],
      remedy: 'Find and stop the cause (tenedor traffic), then ask the list to remove the address.',
    });
  }
  return faults;
}
