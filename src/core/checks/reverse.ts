import ipaddr from 'ipaddr.js';
import { bareName } from '../address/domain.ts';
import { organisationalDomain } from '../dmarc/record.ts';
import { type Lookup, lookUp } from '../records/answers.ts';
import { reverseName, sameAddress } from '../records/reverse-name.ts';
import { type HostFacts, hostRecords } from '../records/sheet.ts';
import { type Finding, type FindingDraft, type SubjectFacts, settledFindings, unanswered } from './finding.ts';

const REQUEST = 'Ask the holder of the address block for the reverse records below (text: tenedor host show). It can take days.';

/** Does each address of the host lead back to its name, and the name to the address? IPv4 and IPv6 alike. */
export async function checkReverse(host: HostFacts, lookup: Lookup, routes: readonly string[] = []): Promise<Finding[]> {
  const facts: SubjectFacts = {
    subject: 'reverse',
    name: host.name,
    expected: host.addresses.map((address) => `${address} → ${host.name}`),
    seen: [],
  };
  const publish = hostRecords(host).filter((record) => record.subject === 'reverse');
  const faults: FindingDraft[] = [];
  const fault = (
    code: FindingDraft['code'],
    headline: string,
    verdict: FindingDraft['verdict'] = 'wrong',
    remedy = REQUEST,
    records = publish,
  ): void => {
    faults.push({ code, verdict, headline, remedy, publish: records });
  };
  const nameless: string[] = [];
  const names = new Map<string, string[]>();
  for (const address of host.addresses) {
    const answer = await lookUp(lookup, reverseName(address), 'PTR');
    if (answer.kind === 'failed') return unanswered(facts, answer.reason, reverseName(address));
    const found = answer.kind === 'found' ? answer.values.map(bareName) : [];
    facts.seen.push(`${address} → ${found.join(', ') || 'no name'}`);
    if (found.length === 0) nameless.push(address);
    else names.set(address, found);
  }
  if (nameless.length > 0)
    fault(
      'reverse-none',
      `${nameless.join(' and ')} ${nameless.length === 1 ? 'has' : 'have'} no reverse record.`,
      nameless.length === host.addresses.length ? 'missing' : 'wrong',
    );
  for (const [address, found] of names) {
    if (found.length > 1)
      fault('reverse-several', `${address} has ${found.length} names: ${found.join(', ')}.`, found.includes(host.name) ? 'weak' : 'wrong');
    const generic = found.find((name) => (name === host.name ? isMadeFrom(name, address) : looksGeneric(name, address)));
    if (generic !== undefined)
      fault(
        'reverse-generic',
        `${address} is called ${generic}, which looks like a residential line.`,
        found.includes(host.name) ? 'weak' : 'wrong',
      );
    else if (!found.includes(host.name)) fault('reverse-other-name', `${address} is called ${found.join(', ')}, not ${host.name}.`);
    for (const name of found) {
      const forward = await lookUp(lookup, name, address.includes(':') ? 'AAAA' : 'A');
      if (forward.kind === 'failed') return unanswered(facts, forward.reason, name);
      if (forward.kind === 'none' || !forward.values.some((value) => sameAddress(value, address)))
        fault(
          'reverse-unconfirmed',
          `${name} does not resolve back to ${address}.`,
          'wrong',
          name === host.name ? `Publish the forward record of ${host.name} with ${address} in the host’s zone.` : REQUEST,
          name === host.name ? hostRecords(host).filter((record) => record.subject === 'host' && record.value === address) : publish,
        );
    }
  }
  const families = [...names].map(([address, found]) => ({ six: address.includes(':'), found }));
  const share = (one: string[], other: string[]): boolean => one.some((name) => other.includes(name));
  const apart = families.find((one) => one.six && families.some((other) => !other.six && !share(one.found, other.found)));
  if (apart)
    fault('reverse-apart', `IPv4 and IPv6 resolve to different names: ${families.map(({ found }) => found.join(', ')).join(' and ')}.`);
  for (const route of routes.filter((one) => !host.addresses.some((address) => sameAddress(address, one)))) {
    const answer = await lookUp(lookup, reverseName(route), 'PTR');
    if (answer.kind === 'none')
      fault(
        'reverse-ipv6-route',
        `This machine also reaches the outside from ${route}, which has no reverse record.`,
        'weak',
        `Name ${route} ${host.name} and add it to the host’s addresses, or remove the address from the machine.`,
      );
  }
  return settledFindings(facts, faults, {
    code: 'reverse-good',
    verdict: 'good',
    headline: 'Each address resolves to the host’s name, and back.',
  });
}

/** Whether a name seems made from its address, or is called after a kind of line. Whoever chose a name for this host has not. */
function looksGeneric(name: string, address: string): boolean {
  const owner = organisationalDomain(name);
  const labels = name.endsWith(`.${owner}`) ? name.slice(0, -owner.length) : name;
  if (/(^|[.-])(dyn|dynamic|dhcp|dsl|adsl|vdsl|pool|ppp|dial|dialup|cable|broadband|client|customer|cust)([.-]?\d|[.-])/i.test(labels))
    return true;
  return isMadeFrom(name, address);
}

function isMadeFrom(name: string, address: string): boolean {
  if (address.includes(':')) return false;
  const digits: string[] = name.match(/\d+/g) ?? [];
  const octets = ipaddr.parse(address).toByteArray().map(String);
  const found = octets.filter((octet) => digits.some((run) => run.replace(/^0+(?=\d)/, '') === octet));
  return found.length === 4 || name.includes(octets.map((octet) => octet.padStart(3, '0')).join(''));
}
