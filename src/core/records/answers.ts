export type RecordType = 'A' | 'AAAA' | 'MX' | 'TXT' | 'PTR' | 'CNAME' | 'NS' | 'SOA' | 'SRV' | 'SPF';

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
  SOA: string;
  SRV: string;
  /** The record type that RFC 7208 §3.1 retired. */
  SPF: string;
}

/**
 * What a look-up came to. `none` is an authoritative "there is nothing" (no such name, or no record of the type);
 * `failed` is no usable answer, which must never be read as absence. `ttl` is the time in seconds that a cache may still
 * give this answer (for absence by the SOA, RFC 2308 §5); `by` is the server that gave it.
 */
export type Answer<T extends RecordType> =
  | { kind: 'found'; values: ValueOf[T][]; ttl: number; alias: string | null; by?: string }
  | { kind: 'none'; reason: 'no-such-name' | 'no-such-record'; ttl?: number; by?: string }
  | { kind: 'failed'; reason: string; by?: string };

/** The one door from core to DNS. */
export type Lookup = <T extends RecordType>(name: string, type: T) => Promise<Answer<T>>;

/** A value as it is shown and compared: MX as `10 host`, the null MX as `0 .`. */
export const valueText = (value: string | MxValue): string =>
  typeof value === 'string' ? value : `${value.preference} ${value.exchange || '.'}`;

/** What came back, in words. */
export function answerText(answer: Answer<RecordType>): string {
  if (answer.kind === 'found')
    return answer.values.map(valueText).join(' | ') + (answer.alias === null ? '' : ` (through the alias to ${answer.alias})`);
  if (answer.kind === 'failed') return answer.reason;
  return answer.reason === 'no-such-name' ? 'no such name' : 'no such record';
}
