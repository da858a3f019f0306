import type { Answer as WireAnswer } from 'dns-packet';
import { bareName } from '../core/address/domain.ts';
import type { RecordType, ValueOf } from '../core/records/answers.ts';
import type { DnsMessage } from './transport.ts';

export const LONGEST_CHAIN = 8;

/** RFC 2308 §5: the lesser of the SOA's TTL and its minimum; without an SOA absence is not cached. */
export function absenceTtl(message: DnsMessage): number {
  const soa = message.authorities?.find((one) => one.type === 'SOA');
  return soa?.type === 'SOA' ? Math.min(soa.ttl ?? 0, soa.data.minimum ?? 0) : 0;
}

/**
 * A reply that says nothing about the name (RFC 1912 §2.8): without authority and without recursion, and neither an answer nor the way
 * to a server further down. Taken for an absence, it would make every record seem lost.
 */
export function isLame(message: DnsMessage, name: string, zone: string | null): boolean {
  if (message.flag_aa) return false;
  const hasAnswers = (message.answers ?? []).length > 0;
  if (zone === null) return !message.flag_ra && !hasAnswers;
  return hasAnswers || message.rcode === 'NXDOMAIN' || referral(message, zone, name) === null;
}

/** RFC 1034 §4.3.2, step 3b: no answer, but the name servers of a zone further down. One that leads upwards or to the side is none. */
export function referral(message: DnsMessage, zone: string, name: string): { apex: string; names: string[] } | null {
  if (message.flag_aa || (message.answers ?? []).length > 0) return null;
  const servers = (message.authorities ?? []).flatMap((one) => (one.type === 'NS' ? [one] : []));
  const below = bareName(servers[0]?.name ?? '');
  const isDeeper = below.endsWith(`.${zone}`) && isAtOrBelow(name, below);
  return isDeeper ? { apex: below, names: servers.map((one) => bareName(one.data)) } : null;
}

const isAtOrBelow = (name: string, zone: string): boolean => name === zone || name.endsWith(`.${zone}`);

/** Follows the CNAMEs inside one reply and collects the values at their end. */
export function answerIn(
  message: DnsMessage,
  name: string,
  type: RecordType,
): { values: ValueOf[RecordType][]; ttl: number; target: string; dname: string | null; isEndless: boolean } {
  const answers = message.answers ?? [];
  const passed = new Set([name]);
  let target = name;
  let ttl = Number.POSITIVE_INFINITY;
  let isEndless = false;
  while (type !== 'CNAME') {
    const alias = answers.find((one) => one.type === 'CNAME' && bareName(one.name) === target);
    if (alias?.type !== 'CNAME') break;
    ttl = Math.min(ttl, alias.ttl ?? 0);
    target = bareName(alias.data);
    isEndless = passed.has(target) || passed.size > LONGEST_CHAIN;
    if (isEndless) break;
    passed.add(target);
  }
  const above = answers.find((one) => one.type === 'DNAME' && isAtOrBelow(name, bareName(one.name)));
  const values: ValueOf[RecordType][] = [];
  for (const one of answers) {
    if ((one.type as string) !== type || bareName(one.name) !== target) continue;
    ttl = Math.min(ttl, 'ttl' in one ? (one.ttl ?? 0) : 0);
    values.push(valueIn(one));
  }
  return { values, ttl: Number.isFinite(ttl) ? ttl : 0, target, dname: above ? bareName(above.name) : null, isEndless };
}

export function valueIn(answer: WireAnswer): ValueOf[RecordType] {
  // The package knows the retired type by name only; its data are strings like those of TXT (RFC 7208 §3.3).
  if ((answer.type as string) === 'SPF') return characterStrings((answer as { data: Buffer }).data);
  switch (answer.type) {
    case 'SRV':
      return `${answer.data.priority ?? 0} ${answer.data.weight ?? 0} ${answer.data.port} ${bareName(answer.data.target)}`;
    case 'MX':
      return { preference: answer.data.preference ?? 0, exchange: answer.data.exchange === '.' ? '' : bareName(answer.data.exchange) };
    case 'TXT': {
      const parts = Array.isArray(answer.data) ? answer.data : [answer.data];
      // RFC 7208 §3.3: strings are joined without a space.
      return parts.map((part) => (typeof part === 'string' ? part : part.toString('latin1'))).join('');
    }
    case 'A':
    case 'AAAA':
      return answer.data;
    case 'SOA':
      return { serial: answer.data.serial ?? 0, refresh: answer.data.refresh ?? 0 };
    case 'CAA':
      return { tag: answer.data.tag.toLowerCase(), value: answer.data.value, isCritical: answer.data.issuerCritical === true };
    case 'PTR':
    case 'CNAME':
    case 'NS':
      return bareName(answer.data);
    default:
      return '';
  }
}

/** RFC 1035 §3.3: a length, then so many octets, again and again. */
function characterStrings(data: Buffer): string {
  let text = '';
  for (let at = 0; at < data.length; at += 1 + (data[at] ?? 0)) text += data.toString('latin1', at + 1, at + 1 + (data[at] ?? 0));
  return text;
}
