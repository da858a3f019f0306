import type { Lookup } from '../records/answers.ts';
import { sameAddress } from '../records/reverse-name.ts';
import { type HostFacts, mxText, type SheetRecord } from '../records/sheet.ts';
import { type Finding, type FindingDraft, finding, unanswered } from './finding.ts';

/** Does mail for a `home` domain come to this host, and only to it? */
export async function checkMx(domain: string, host: HostFacts, record: SheetRecord, lookup: Lookup): Promise<Finding> {
  const expected = [mxText(host.name)];
  const answer = await lookup(domain, 'MX');
  if (answer.kind === 'failed') return unanswered('mx', domain, expected, answer.reason);
  const values = answer.kind === 'found' ? [...answer.values].sort((one, other) => one.preference - other.preference) : [];
  const seen = values.map(({ preference, exchange }) => `${preference} ${exchange || '.'}`);
  const found = (draft: Pick<FindingDraft, 'code' | 'verdict' | 'headline' | 'why' | 'remedy'>) =>
    finding({ subject: 'mx', name: domain, expected, seen, ...draft, publish: draft.verdict === 'good' ? [] : [record] });
  if (values.length === 0)
    return found({
      code: 'mx-none',
      verdict: 'missing',
      headline:
        answer.kind === 'none' && answer.reason === 'no-such-name' ? 'The domain does not exist in DNS.' : 'No MX record is published.',
      why: 'Other servers do not know where to bring mail for this domain.',
      remedy: 'Publish the MX record below.',
    });
  const others = values.filter(({ exchange }) => exchange !== host.name);
  const ours = values.find(({ exchange }) => exchange === host.name);
  if (values.length === 1 && values[0]?.exchange === '')
    return found({
      code: 'mx-null',
      verdict: 'wrong',
      headline: 'A null MX says that this domain takes no mail (RFC 7505).',
      why: 'Every other server refuses to send mail here.',
      remedy: 'Replace the null MX by the record below.',
    });
  if (!ours)
    return found({
      code: 'mx-elsewhere',
      verdict: 'wrong',
      headline: 'Mail for this domain goes to another server.',
      why: 'Messages from outside never reach the mailboxes here. If that is meant so, the domain’s role should be `away`.',
      remedy: `Replace ${plural(others.length, 'the record', 'the records')} seen by the one below.`,
    });
  if (others.length > 0) {
    const first = others.some(({ preference }) => preference <= ours.preference);
    return found({
      code: 'mx-left-over',
      verdict: first ? 'wrong' : 'weak',
      headline: `${others.map(({ exchange }) => exchange).join(' and ')} ${plural(others.length, 'is', 'are')} published beside our host.`,
      why: first
        ? 'Part or all of the mail goes to the other server, and is missing here.'
        : 'Whenever this host is busy for a moment, mail goes to the other server instead of waiting.',
      remedy: `Remove ${others.map(({ preference, exchange }) => `“MX ${preference} ${exchange}”`).join(' and ')}; keep only the record below.`,
    });
  }
  for (const address of host.addresses) {
    const forward = await lookup(host.name, address.includes(':') ? 'AAAA' : 'A');
    if (forward.kind === 'failed') return unanswered('mx', host.name, expected, forward.reason);
    if (forward.kind === 'none' || !forward.values.some((value) => sameAddress(value, address)))
      return found({
        code: 'mx-host-unresolved',
        verdict: 'wrong',
        headline: `${host.name} does not resolve to ${address}.`,
        why: 'The MX record names this host, but other servers can’t find it at all of its addresses.',
        remedy: `Publish ${address.includes(':') ? 'an AAAA' : 'an A'} record for ${host.name} with ${address} in the host’s zone.`,
      });
  }
  return found({
    code: 'mx-good',
    verdict: 'good',
    headline: 'Mail for this domain comes here, and only here.',
    why: 'Other servers find this host for the domain.',
    remedy: '',
  });
}

/** For role `away`: the domain's mail must not be led here. */
export async function checkMxAway(domain: string, host: HostFacts, lookup: Lookup): Promise<Finding> {
  const expected = ['another server than this one'];
  const answer = await lookup(domain, 'MX');
  if (answer.kind === 'failed') return unanswered('mx', domain, expected, answer.reason);
  const seen = answer.kind === 'found' ? answer.values.map(({ preference, exchange }) => `${preference} ${exchange || '.'}`) : [];
  const here = answer.kind === 'found' && answer.values.some(({ exchange }) => exchange === host.name);
  if (here)
    return finding({
      subject: 'mx',
      code: 'mx-here-but-away',
      verdict: 'wrong',
      headline: 'Mail for this domain is led here, but its role is `away`.',
      name: domain,
      expected,
      seen,
      why: 'This server refuses the domain’s mail, because its mailboxes are elsewhere.',
      remedy: `Remove the MX record that names ${host.name}, or give the domain the role \`home\`.`,
    });
  if (seen.length === 0)
    return finding({
      subject: 'mx',
      code: 'mx-none-away',
      verdict: 'missing',
      headline: 'No MX record is published.',
      name: domain,
      expected,
      seen,
      why: 'Mail for this domain finds no server, here or elsewhere; local senders get it back.',
      remedy: 'Have the customer publish the MX record of the server that has the mailboxes.',
    });
  return finding({
    subject: 'mx',
    code: 'mx-away-good',
    verdict: 'good',
    headline: 'Mail goes elsewhere, as the role `away` says.',
    name: domain,
    expected,
    seen,
    why: 'Local senders’ mail for it leaves by its MX records instead of landing in a mailbox here.',
    remedy: '',
  });
}

const plural = (count: number, one: string, more: string): string => (count === 1 ? one : more);
