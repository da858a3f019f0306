export type RecordType = 'A' | 'AAAA' | 'MX' | 'TXT' | 'PTR' | 'CNAME' | 'NS' | 'SOA';

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
}

/**
 * What a look-up came to. `none` is an authoritative "there is nothing" (no such name, or no record of the type);
 * `failed` is no usable answer, which must never be read as absence.
 */
export type Answer<T extends RecordType> =
  | { kind: 'found'; values: ValueOf[T][]; ttl: number; alias: string | null }
  | { kind: 'none'; reason: 'no-such-name' | 'no-such-record' }
  | { kind: 'failed'; reason: string };

/** The one door from core to DNS. */
export type Lookup = <T extends RecordType>(name: string, type: T) => Promise<Answer<T>>;
