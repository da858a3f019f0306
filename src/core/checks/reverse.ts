import { bareName } from '../address/domain.ts';
import type { Lookup } from '../records/answers.ts';
import { reverseName, sameAddress } from '../records/reverse-name.ts';
import { type HostFacts, hostRecords } from '../records/sheet.ts';
import { type Finding, finding, unanswered } from './finding.ts';

/** Does each address of the host lead back to its name, and the name to the address? IPv4 and IPv6 alike. */
export async function checkReverse(host: HostFacts, lookup: Lookup): Promise<Finding> {
  const expected = host.addresses.map((address) => `${address} → ${host.name}`);
  const seen: string[] = [];
  const faults: string[] = [];
  let missing = 0;
  for (const address of host.addresses) {
    const answer = await lookup(reverseName(address), 'PTR');
    if (answer.kind === 'failed') return unanswered('reverse', reverseName(address), expected, answer.reason);
    if (answer.kind === 'none') {
      missing += 1;
      seen.push(`${address} → no name`);
      faults.push(`${address} has no reverse record`);
      continue;
    }
    seen.push(`${address} → ${answer.values.join(', ')}`);
    if (!answer.values.map(bareName).includes(host.name)) faults.push(`${address} is called ${answer.values.join(', ')}`);
    else {
      const forward = await lookup(host.name, address.includes(':') ? 'AAAA' : 'A');
      if (forward.kind === 'failed') return unanswered('reverse', host.name, expected, forward.reason);
      if (forward.kind === 'none' || !forward.values.some((value) => sameAddress(value, address)))
        faults.push(`${host.name} does not lead back to ${address}`);
    }
  }
  const good = faults.length === 0;
  const allMissing = missing === host.addresses.length;
  return finding({
    subject: 'reverse',
    code: good ? 'reverse-good' : missing > 0 ? 'reverse-none' : 'reverse-unconfirmed',
    verdict: good ? 'good' : allMissing ? 'missing' : 'wrong',
    headline: good ? 'Each address leads to the host’s name, and back.' : `${faults.join('; ')}.`,
    name: host.name,
    expected,
    seen,
    why: good
      ? 'Receivers see a host that its address block’s owner knows.'
      : 'Large receivers refuse or distrust hosts whose address and name don’t agree.',
    remedy: good ? '' : 'Ask whoever holds the address block for the reverse records below; it takes days, so ask now.',
    publish: good ? [] : hostRecords(host).filter((record) => record.subject === 'reverse'),
  });
}
