import { isIpAddress } from '../address/ip-address.ts';
import { domainSide } from '../address/sides.ts';
import { type Lookup, lookUp } from '../records/answers.ts';
import { listLabel, reverseName, sameAddress } from '../records/reverse-name.ts';
import type { TrialFacts } from './facts.ts';
import { type MessageDraft, type MessageFinding, messageFindings } from './finding.ts';

/** Names of one address that are looked at. */
const MOST_NAMES = 5;
const AGAIN = 'Score it again in some minutes.';

/** What can be said of the server that brought a message, and of the envelope. */
export async function clientFindings(facts: TrialFacts, blockLists: readonly string[], lookup: Lookup): Promise<MessageFinding[]> {
  const { client } = facts;
  const [reverse, greeting, lists, envelope] = await Promise.all([
    client ? reverseDraft(client.address, lookup) : ({ code: 'reverse-unanswered', headline: 'It is sent through a smart host.' } as const),
    client ? greetingDraft(client, lookup) : ({ code: 'greeting-unanswered', headline: 'It is sent through a smart host.' } as const),
    client
      ? listDraft(client.address, blockLists, lookup)
      : ({ code: 'block-lists-unanswered', headline: 'It is sent through a smart host.' } as const),
    envelopeDraft(facts.sender, lookup),
  ]);
  return [
    ...messageFindings('reverse', [reverse]),
    ...messageFindings('greeting', [greeting]),
    ...messageFindings('tls', [tlsDraft(facts)]),
    ...messageFindings('block-lists', [lists]),
    ...messageFindings('envelope', [envelope]),
  ];
}

async function reverseDraft(address: string, lookup: Lookup): Promise<MessageDraft<'reverse'>> {
  const answer = await lookUp(lookup, reverseName(address), 'PTR');
  if (answer.kind === 'failed')
    return { code: 'reverse-unanswered', headline: `DNS did not answer for the name of ${address}.`, seen: [answer.reason], remedy: AGAIN };
  if (answer.kind === 'none' || answer.values.length === 0)
    return {
      code: 'reverse-none',
      headline: `${address} has no name.`,
      remedy: 'Ask the holder of the address block for a reverse record with the server’s name.',
    };
  const names = answer.values.slice(0, MOST_NAMES);
  let silent: string | null = null;
  for (const name of names) {
    const leads = await leadsTo(name, address, lookup);
    if (leads === 'there') return { code: 'reverse-good', headline: `${address} is ${name}, and back.` };
    if (leads === 'unknown') silent = name;
  }
  if (silent !== null) return { code: 'reverse-unanswered', headline: `DNS did not answer for the address of ${silent}.`, remedy: AGAIN };
  return {
    code: 'reverse-not-back',
    headline: `${address} is named ${names.join(' or ')}, which does not resolve back to it.`,
    remedy: `Publish an address record of ${names[0]} with ${address}, or correct the reverse record.`,
  };
}

async function greetingDraft(
  { address, greeting }: { address: string; greeting: string },
  lookup: Lookup,
): Promise<MessageDraft<'greeting'>> {
  const name = greeting.toLowerCase().replace(/\.$/, '');
  const seen = [greeting];
  // An address literal is allowed (RFC 5321 §4.1.3), and is what machines without a name say.
  if (!name.includes('.') || name.startsWith('[') || isIpAddress(name))
    return { code: 'greeting-no-name', headline: 'The server greets without a name.', seen, remedy: 'Set its fully qualified host name.' };
  const leads = await leadsTo(name, address, lookup);
  if (leads === 'unknown')
    return { code: 'greeting-unanswered', headline: `DNS did not answer for the address of ${name}.`, seen, remedy: AGAIN };
  if (leads === 'nowhere')
    return {
      code: 'greeting-nowhere',
      headline: `The server greets as ${name}, which does not exist.`,
      seen,
      remedy: 'Set its greeting to the name in its reverse record.',
    };
  if (leads === 'elsewhere')
    return {
      code: 'greeting-elsewhere',
      headline: `The server greets as ${name}, which points to another address than ${address}.`,
      seen,
      remedy: 'Set its greeting to the name in its reverse record.',
    };
  return { code: 'greeting-good', headline: `The server greets as ${name}, which is its name.`, seen };
}

async function leadsTo(name: string, address: string, lookup: Lookup): Promise<'there' | 'elsewhere' | 'nowhere' | 'unknown'> {
  const answers = await Promise.all([lookUp(lookup, name, 'A'), lookUp(lookup, name, 'AAAA')]);
  const values = answers.flatMap((one) => (one.kind === 'found' ? one.values : []));
  if (values.some((one) => sameAddress(one, address))) return 'there';
  if (answers.some((one) => one.kind === 'failed')) return 'unknown';
  return values.length > 0 ? 'elsewhere' : 'nowhere';
}

const tlsDraft = ({ tls }: TrialFacts): MessageDraft<'tls'> =>
  tls === null
    ? { code: 'tls-unknown', headline: 'Not sent yet.' }
    : tls
      ? { code: 'tls-used', headline: 'It arrived over TLS.' }
      : { code: 'tls-none', headline: 'It arrived unencrypted.', remedy: 'Configure the sending server to use STARTTLS when offered.' };

async function listDraft(address: string, lists: readonly string[], lookup: Lookup): Promise<MessageDraft<'block-lists'>> {
  if (lists.length === 0)
    return {
      code: 'block-lists-none',
      headline: 'No block lists were checked.',
      remedy: 'Set the lists your recipients use: [dns] block_lists in the configuration.',
    };
  const label = listLabel(address);
  const answers = await Promise.all(lists.map(async (list) => ({ list, answer: await lookUp(lookup, `${label}.${list}`, 'A') })));
  // RFC 5782 §2.1: entries lie in 127.0.0.0/8; anything else is no entry.
  const naming = answers.filter(({ answer }) => answer.kind === 'found' && answer.values.some((value) => value.startsWith('127.')));
  if (naming.length > 0)
    return {
      code: 'block-lists-listed',
      headline: `${address} is on ${naming.map((one) => one.list).join(' and ')}.`,
      seen: naming.map((one) => `${label}.${one.list}`),
      remedy: 'Find and stop the cause, then ask the list to remove the address.',
    };
  const silent = answers.filter(({ answer }) => answer.kind === 'failed').map((one) => one.list);
  if (silent.length > 0) return { code: 'block-lists-unanswered', headline: `No answer from ${silent.join(' and ')}.`, remedy: AGAIN };
  return {
    code: 'block-lists-good',
    headline: lists.length === 1 ? `${address} is not on ${lists[0]}.` : `${address} is on none of ${lists.length} lists.`,
  };
}

async function envelopeDraft(sender: string, lookup: Lookup): Promise<MessageDraft<'envelope'>> {
  if (sender === '')
    return {
      code: 'envelope-null',
      headline: 'The envelope has no sender.',
      remedy: 'Use a sender address that accepts bounces, unless it is a report.',
    };
  const domain = domainSide(sender);
  const exchanges = await lookUp(lookup, domain, 'MX');
  const unanswered = (reason: string): MessageDraft<'envelope'> => ({
    code: 'envelope-unanswered',
    headline: `DNS did not answer for the mail servers of ${domain}.`,
    seen: [reason],
    remedy: AGAIN,
  });
  if (exchanges.kind === 'failed') return unanswered(exchanges.reason);
  if (exchanges.kind === 'found' && exchanges.values.some((one) => one.exchange !== ''))
    return { code: 'envelope-good', headline: `${domain} receives mail, so bounces can be delivered.`, seen: [sender] };
  const noWay = (why: string): MessageDraft<'envelope'> => ({
    code: 'envelope-no-way-back',
    headline: `${domain} ${why}: bounces to ${sender} are lost.`,
    seen: [sender],
    remedy: 'Use a sender address in a domain that receives mail.',
  });
  // RFC 7505: it takes none at all.
  if (exchanges.kind === 'found') return noWay('receives no mail (null MX)');
  // RFC 5321 §5.1: without MX the name itself is the server.
  const answers = await Promise.all([lookUp(lookup, domain, 'A'), lookUp(lookup, domain, 'AAAA')]);
  if (answers.some((one) => one.kind === 'found'))
    return { code: 'envelope-good', headline: `${domain} receives mail, so bounces can be delivered.`, seen: [sender] };
  const failed = answers.find((one) => one.kind === 'failed');
  return failed?.kind === 'failed' ? unanswered(failed.reason) : noWay('has no mail server');
}
