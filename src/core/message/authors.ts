import { isUtf8 } from 'node:buffer';
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
  /** Whether all programs show the same, and it is the address of somebody: one From field of well-formed addresses, with domains that DNS can have. */
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
  const [only] = froms;
  const isClear = froms.length === 1 && only !== undefined && all.size <= MOST_DOMAINS && showsOneThing(only, read[0] ?? null);
  return { addresses, domains: [...all].slice(0, MOST_DOMAINS), isClear };
}

/** Letters that are not seen, or that turn the direction of writing: what is shown is not what stands there. */
const UNSEEN = /[\p{Cc}\p{Cf}\p{Zl}\p{Zp}\u00a0\u2000-\u200a\u202f\u205f\u3000\u115f\u1160\u17b4\u17b5\u3164\uffa0\ufffd]|\u034f/u;
/** An address as everybody reads it: a dot-atom, or letters beyond ASCII (RFC 6531 §3.3), and a domain. */
const WELL_FORMED = /^[^\s"(),:;<>@[\\\]]{1,64}@([^\s"(),:;<>@[\\\]]{1,255})$/u;
/** A name without quotes that the grammar wants in them, and one address behind it: programs show the same all the same. */
const NAMED = /^([^<>@]*)<([^<>@\s]+@[^<>@\s]+)>$/;

/** Whether every program shows the same addresses, and each of them could be somebody's (RFC 5322 §3.4.1, with a domain that DNS can have). */
function showsOneThing(value: string, byGrammar: readonly string[] | null): boolean {
  const named = byGrammar === null ? NAMED.exec(value) : null;
  // What an encoded name hides is shown beside the address.
  if (named && displayText(named[1] ?? '', LONGEST_READ).includes('@')) return false;
  const addresses = byGrammar ?? (named ? [named[2] ?? ''] : []);
  return addresses.length > 0 && addresses.every(isWellFormed);
}

function isWellFormed(octets: string): boolean {
  const bytes = Buffer.from(octets, 'latin1');
  if (!isUtf8(bytes)) return false;
  const address = bytes.toString('utf8');
  const quoted = /^"(?:[^"\\]|\\.)*"@/.exec(address)?.[0];
  const found = WELL_FORMED.exec(quoted ? `q@${address.slice(quoted.length)}` : address);
  const domain = found?.[1];
  if (domain === undefined || UNSEEN.test(address) || domain.endsWith('.') || address.includes('..')) return false;
  return parseDomain(domain).kind === 'ok';
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
