import { type DomainName, parseDomain } from '../address/domain.ts';
import { domainSide } from '../address/sides.ts';
import { addressesIn } from './address-list.ts';
import { displayText, type Field, fieldsNamed } from './fields.ts';

/** Who wrote a message, as its From fields say. */
export interface Authors {
  /**
   * Every address that a mail program could show as the author's, as written, in lower case. By the grammar where the field keeps to it
   * (RFC 5322 §3.6.2); else whatever looks like an address anywhere in it.
   */
  addresses: string[];
  /** Their domains, each once; an address literal or a single label has none. */
  domains: DomainName[];
  /** Whether all programs show the same: the grammar is kept, or there is one address, however it stands there. */
  isClear: boolean;
}

/** More domains than these are nobody's honest list of authors; no more are judged. */
export const MOST_DOMAINS = 8;
/** Octets beside an @ that can belong to an address (RFC 5321 §4.5.3.1). */
const LONGEST_LOCAL = 64;
const LONGEST_DOMAIN = 255;
const MOST_FOUND = 200;
const LONGEST_READ = 20_000;

/** Reads all From fields of a header. */
export function authorsOf(fields: readonly Field[]): Authors {
  const froms = fieldsNamed(fields, 'From').map((field) => field.value);
  const read = froms.map(addressesIn);
  const byGrammar = read.every((one) => one !== null);
  const found = byGrammar ? read.flatMap((one) => one ?? []) : froms.flatMap(whateverLooksLikeOne);
  const addresses = [...new Set(found.map((one) => inUnicode(one).toLowerCase()))];
  const all = new Set(addresses.flatMap((one) => domainOf(one) ?? []));
  const isList = byGrammar && froms.length === 1 && addresses.length > 0 && all.size <= MOST_DOMAINS;
  return { addresses, domains: [...all].slice(0, MOST_DOMAINS), isClear: isList || addresses.length === 1 };
}

function domainOf(address: string): DomainName | null {
  const parsed = parseDomain(domainSide(address));
  return parsed.kind === 'ok' ? parsed.ascii : null;
}

/** Octets of a header as the text that they are (RFC 6532 §3.2). */
const inUnicode = (octets: string): string => Buffer.from(octets, 'latin1').toString('utf8');

/** Every @ with something on both sides, also in quotes, comments and encoded words. */
function whateverLooksLikeOne(value: string): string[] {
  const found = new Set<string>();
  const decoded = Buffer.from(displayText(value, LONGEST_READ), 'utf8').toString('latin1');
  // Without comments the two sides of an @ may come together.
  for (const text of [value, decoded, value.replace(/\([^()]*\)/g, '')])
    for (let at = text.indexOf('@'); at >= 0 && found.size < MOST_FOUND; at = text.indexOf('@', at + 1)) {
      const before = /[^\s<>()[\],;:"\\@]{1,64}$/.exec(text.slice(Math.max(0, at - 2 * LONGEST_LOCAL), at).trimEnd())?.[0];
      const behind = /^[^\s<>()[\],;:"\\@]{1,255}/.exec(text.slice(at + 1, at + 1 + 2 * LONGEST_DOMAIN).trimStart())?.[0];
      if (before !== undefined && behind !== undefined) found.add(`${before}@${behind}`);
    }
  return [...found];
}
