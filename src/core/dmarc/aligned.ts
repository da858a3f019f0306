import { domainName } from '../address/domain.ts';
import { organisationalDomain } from './record.ts';

/** Whether two domains are the same, or of the same organisation (RFC 7489 §3.1). What is no domain name is aligned with nothing. */
export function isAligned(one: string, other: string, strict: boolean): boolean {
  const [first, second] = [domainName(one), domainName(other)];
  if (first === null || second === null) return false;
  return strict ? first === second : organisationalDomain(first) === organisationalDomain(second);
}
