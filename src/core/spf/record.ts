export type Qualifier = '+' | '-' | '~' | '?';
export const MECHANISMS = ['all', 'include', 'a', 'mx', 'ptr', 'ip4', 'ip6', 'exists'] as const;

export interface Mechanism {
  name: (typeof MECHANISMS)[number];
  qualifier: Qualifier;
  /** The domain-spec before macro expansion, or the network of ip4 and ip6; null where none is written. */
  value: string | null;
  prefix4: number | null;
  prefix6: number | null;
  /** As written. */
  text: string;
}

export interface SpfRecord {
  mechanisms: Mechanism[];
  redirect: string | null;
  exp: string | null;
}

export type SpfParse = { kind: 'ok'; record: SpfRecord } | { kind: 'invalid'; term: string; position: number; reason: string };

/** Whether a TXT record is an SPF record at all (RFC 7208 §4.5). */
export const isSpf = (text: string): boolean => /^v=spf1( |$)/i.test(text);

/** Parses a record by the grammar of RFC 7208 §12; any broken term makes the whole record invalid (§4.6). */
export function parseSpf(text: string): SpfParse {
  const record: SpfRecord = { mechanisms: [], redirect: null, exp: null };
  for (const found of text.slice('v=spf1'.length).matchAll(/[^ ]+/g)) {
    const term = found[0];
    const position = 'v=spf1'.length + found.index;
    const invalid = (reason: string): SpfParse => ({ kind: 'invalid', term, position, reason });
    const modifier = /^([A-Za-z][A-Za-z0-9_.-]*)=(.*)$/.exec(term);
    if (modifier) {
      const name = (modifier[1] ?? '').toLowerCase();
      const value = modifier[2] ?? '';
      // §6: unknown modifiers are ignored, but not what breaks the grammar (§4.6, §12).
      if (!isMacroString(value)) return invalid(`"${value}" is no text with macros`);
      if (name !== 'redirect' && name !== 'exp') continue;
      if (record[name] !== null) return invalid(`there is more than one ${name}=`);
      if (!isDomainSpec(value)) return invalid(`${name}= needs a domain name`);
      record[name] = value;
      continue;
    }
    const mechanism = parseMechanism(term);
    if (typeof mechanism === 'string') return invalid(mechanism);
    record.mechanisms.push(mechanism);
  }
  return { kind: 'ok', record };
}

function parseMechanism(term: string): Mechanism | string {
  const parts = /^([+~?-]?)([A-Za-z0-9]+)(?::([^/]*(?:\/(?!\d|\/)[^/]*)*))?((?:\/\d+)?(?:\/\/\d+)?)$/.exec(term);
  // ip6 networks hold colons and ip4 and ip6 use one slash for their own length, so they are read apart.
  const address = /^([+~?-]?)(ip4|ip6):([^/]+)(?:\/(\d+))?$/i.exec(term);
  if (address) {
    const six = address[2]?.toLowerCase() === 'ip6';
    const value = address[3] ?? '';
    if (six ? !isIp6(value) : !isIp4(value)) return `"${value}" is no ${six ? 'IPv6' : 'IPv4'} address`;
    const length = address[4] === undefined ? null : prefix(address[4], six ? 128 : 32);
    if (length === 'bad') return `the length /${address[4]} is out of range`;
    return {
      name: six ? 'ip6' : 'ip4',
      qualifier: (address[1] || '+') as Qualifier,
      value,
      prefix4: six ? null : length,
      prefix6: six ? length : null,
      text: term,
    };
  }
  if (!parts) return 'it is no mechanism and no modifier';
  const name = (parts[2] ?? '').toLowerCase() as Mechanism['name'];
  if (!MECHANISMS.includes(name)) return `there is no mechanism "${parts[2]}"`;
  const value = parts[3] ?? null;
  const lengths = /^(?:\/(\d+))?(?:\/\/(\d+))?$/.exec(parts[4] ?? '');
  const prefix4 = lengths?.[1] === undefined ? null : prefix(lengths[1], 32);
  const prefix6 = lengths?.[2] === undefined ? null : prefix(lengths[2], 128);
  if (prefix4 === 'bad' || prefix6 === 'bad') return `the length ${parts[4]} is out of range`;
  if ((prefix4 !== null || prefix6 !== null) && name !== 'a' && name !== 'mx') return `${name} takes no length`;
  if (name === 'ip4' || name === 'ip6') return `${name} needs an address`;
  if (name === 'all' && value !== null) return 'all takes no value';
  if ((name === 'include' || name === 'exists') && value === null) return `${name} needs a domain name`;
  if (value !== null && !isDomainSpec(value)) return `"${value}" is not a domain name`;
  return { name, qualifier: (parts[1] || '+') as Qualifier, value, prefix4, prefix6, text: term };
}

function prefix(text: string, most: number): number | 'bad' {
  return /^(0|[1-9]\d*)$/.test(text) && Number(text) <= most ? Number(text) : 'bad';
}

/** Visible characters, or a macro; the letters c, r and t are for explanations only (RFC 7208 §7.1, §7.2). */
const PIECE = /[\x21-\x24\x26-\x7e]+|%\{[slodiphv](?:[1-9]\d*)?r?[.\-+,/_=]*\}|%[%_-]/giy;

/** The pieces of a text with macros; null when it breaks the grammar. */
function macroPieces(text: string): string[] | null {
  const pieces = [...text.matchAll(PIECE)].map((piece) => piece[0]);
  return pieces.join('') === text ? pieces : null;
}
const isMacroString = (text: string): boolean => macroPieces(text) !== null;

/** RFC 7208 §7.1: a text with macros that ends in a macro, or in a dot and a top label, which is no number. */
function isDomainSpec(text: string): boolean {
  const last = macroPieces(text)?.at(-1);
  if (last === undefined) return false;
  return last.startsWith('%') || (/\.[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?\.?$/.test(text) && !/\.\d+\.?$/.test(text));
}

const isIp4 = (text: string): boolean =>
  /^\d{1,3}(\.\d{1,3}){3}$/.test(text) && text.split('.').every((part) => Number(part) <= 255 && String(Number(part)) === part);
const isIp6 = (text: string): boolean => /^[0-9a-f:.]+$/i.test(text) && text.includes(':') && URL.canParse(`http://[${text}]/`);
