import { type DnsName, dnsName } from '../address/domain.ts';
import type { CaaValue } from '../certificates/caa.ts';

export type RecordType = 'A' | 'AAAA' | 'MX' | 'TXT' | 'PTR' | 'CNAME' | 'NS' | 'SOA' | 'SRV' | 'SPF' | 'CAA';

/** What a zone says of itself (RFC 1035 §3.3.13), as far as anybody here asks for it. */
export interface SoaValue {
  serial: number;
  /** Seconds after which a second name server asks for news. */
  refresh: number;
}

/** One record's value as text: addresses, names without final dot, TXT strings joined without a space (RFC 7208 §3.3). */
export interface MxValue {
  preference: number;
  exchange: string;
}

export interface ValueOf {
  A: string;
  AAAA: string;
  MX: MxValue;
  TXT: string;
  PTR: string;
  CNAME: string;
  NS: string;
  SOA: SoaValue;
  SRV: string;
  /** The record type that RFC 7208 §3.1 retired. */
  SPF: string;
  CAA: CaaValue;
}

/**
 * What a look-up came to. `none` is an authoritative "there is nothing" (no such name, or no record of the type);
 * `failed` is no usable answer, which must never be read as absence. `ttl` is the time in seconds that a cache may still
 * give this answer (for absence by the SOA, RFC 2308 §5); `by` is the server that gave it. `alias` is where an alias at the name
 * led to, `dname` the name above whose DNAME made that alias (RFC 6672).
 */
export type Answer<T extends RecordType> =
  | { kind: 'found'; values: ValueOf[T][]; ttl: number; alias: string | null; dname?: string; by?: string }
  | { kind: 'none'; reason: 'no-such-name' | 'no-such-record'; alias?: string | null; dname?: string; ttl?: number; by?: string }
  | { kind: 'failed'; reason: string; by?: string };

/** The one door from core to DNS. */
export type Lookup = <T extends RecordType>(name: DnsName, type: T) => Promise<Answer<T>>;

/** Asks about a name as it stood in a record, a message or a setting. What can't be a name is no name of anything (RFC 1035 §2.3.4). */
export function lookUp<T extends RecordType>(lookup: Lookup, text: string, type: T): Promise<Answer<T>> {
  const name = dnsName(text);
  return name === null ? Promise.resolve({ kind: 'none', reason: 'no-such-name' }) : lookup(name, type);
}

/** A value as it is shown and compared: MX as `10 host`, the null MX as `0 .`. */
export function valueText(value: string | MxValue | SoaValue | CaaValue): string {
  if (typeof value === 'string') return value;
  if ('tag' in value) return `${value.isCritical ? 128 : 0} ${value.tag} "${value.value}"`;
  return 'serial' in value ? `serial ${value.serial}` : `${value.preference} ${value.exchange || '.'}`;
}

/** What came back, in words. */
export function answerText(answer: Answer<RecordType>): string {
  if (answer.kind === 'found')
    return answer.values.map(valueText).join(' | ') + (answer.alias === null ? '' : ` (through the alias to ${answer.alias})`);
  if (answer.kind === 'failed') return answer.reason;
  const absence = answer.reason === 'no-such-name' ? 'no such name' : 'no such record';
  return answer.alias ? `${absence} (through the alias to ${answer.alias})` : absence;
}
