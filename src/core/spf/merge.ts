import { breathe } from '../pieces.ts';
import { type Lookup, lookUp } from '../records/answers.ts';
import { costlyTerms, spfCosts } from './costs.ts';
import { evaluateSpf } from './evaluate.ts';
import { isSpf, parseSpf } from './record.ts';
import { MOST_LOOKUPS, type SpfResult } from './run.ts';

/** Why a term of a published record goes, or is written otherwise. */
export type SpfReason =
  | { code: 'after-all' | 'twice' | 'ptr' | 'redirect-beside-all' | 'includes-itself' }
  | { code: 'unreadable'; reason: string }
  | { code: 'broken'; name: string; reason: string }
  /** `name` null: the term itself. */
  | { code: 'lets-anyone-in'; name: string | null }
  | { code: 'no-mx' | 'no-address' | 'no-record' | 'several-records' | 'leads-back'; name: string }
  | { code: 'too-many-lookups' | 'one-family'; networks: number };
export type SpfChange = { term: string } & SpfReason;

export interface SpfProposal {
  /** The one record to publish. */
  value: string;
  /** What it costs of the ten look-ups. */
  lookups: number;
  /** Whether it asks too much all the same, in all or in vain: then it is of no use. */
  isTooDear: boolean;
  /** Terms of the published records that it leaves out or replaces, and why. */
  changes: SpfChange[];
}

/** Who must be let send: this host at each address, and whoever the outlets name. */
export interface SpfSenders {
  name: string;
  addresses: readonly string[];
  /** Domains whose records the smart hosts ask to have included. */
  outletIncludes: readonly string[];
  /** A look-up in which the host's name leads to all of its addresses, as it should: when it does not, the fault is not in anybody's record. */
  resolved: (lookup: Lookup) => Lookup;
}

/** This host as a sender; nobody, where the domain's mail is sent elsewhere. */
export function leadingHost(host: { name: string; addresses: readonly string[]; outletIncludes?: readonly string[] } | null): SpfSenders {
  if (host === null) return { name: '', addresses: [], outletIncludes: [], resolved: (lookup) => lookup };
  const { name, addresses, outletIncludes = [] } = host;
  const resolved =
    (lookup: Lookup): Lookup =>
    async (asked, type) => {
      if (asked !== name || (type !== 'A' && type !== 'AAAA')) return lookup(asked, type);
      const values = addresses.filter((address) => address.includes(':') === (type === 'AAAA'));
      return (values.length > 0 ? { kind: 'found', values, ttl: 0, alias: null } : { kind: 'none', reason: 'no-such-record' }) as never;
    };
  return { name, addresses, outletIncludes, resolved };
}

/**
 * The one record that lets us send and keeps what was published: terms keep their order, repeated and dead ones go, ours come first,
 * and the strictest `all` stays. Where a record was open or neutral, nobody has said who else sends, so it becomes `~all`. When that costs too many look-ups, or too many in vain, ours and then
 * others are written out as addresses.
 */
export async function proposeSpf(domain: string, published: readonly string[], ours: SpfSenders, plain: Lookup): Promise<SpfProposal> {
  const lookup = ours.resolved(plain);
  const changes: SpfProposal['changes'] = [];
  const theirs: string[] = [];
  const keys = new Set<string>();
  const endings: string[] = [];
  for (const text of published) {
    let ended = false;
    for (const term of text.trim().split(/ +/).slice(1)) {
      await breathe();
      const why: SpfReason | null = ended ? { code: 'after-all' } : await whyDead(term, domain, keys, lookup);
      if (/^[+~?-]?all$/i.test(term)) {
        endings.push(term.toLowerCase());
        ended = true;
      } else if (why === null) {
        theirs.push(bare(term));
        keys.add(keyOf(term, domain));
      } else changes.push({ term, ...why });
    }
  }
  const wasOpen = changes.some(({ code }) => code === 'lets-anyone-in');
  const end = wasOpen ? undefined : ['-all', '~all'].find((ending) => endings.includes(ending));
  // RFC 7208 §6.1: beside “all” a redirect is never read; several can't be obeyed.
  const redirects = theirs.filter((term) => /^redirect=/i.test(term));
  const kept = theirs.filter((term) => !redirects.includes(term));
  for (const term of redirects)
    if (endings.length > 0) changes.push({ term, code: 'redirect-beside-all' });
    else kept.push(redirects.length === 1 ? term : `include:${term.slice('redirect='.length)}`);
  const compose = (terms: readonly string[]): string => {
    const redirect = terms.find((term) => /^redirect=/i.test(term));
    return ['v=spf1', ...terms.filter((term) => term !== redirect), redirect ?? end ?? (published.length > 0 ? '~all' : '-all')].join(' ');
  };
  const includes = ours.outletIncludes
    .map((name) => `include:${name}`)
    .filter((term) => !kept.some((other) => keyOf(other, domain) === term));
  const covered = published.length > 0 && (await covers(compose(kept), domain, ours, lookup));
  let terms = [...(covered ? [] : [`a:${ours.name}`]), ...includes, ...kept];
  let costs = await spfCosts(compose(terms), domain, lookup);
  if (costs.total > MOST_LOOKUPS && terms[0] === `a:${ours.name}`) {
    terms = once([...ours.addresses.map((address) => `${address.includes(':') ? 'ip6' : 'ip4'}:${address}`), ...terms.slice(1)], domain);
    costs = await spfCosts(compose(terms), domain, lookup);
  }
  // What has so many that cost a look-up is not brought under ten by writing some out.
  if (terms.filter((term) => !/^[~?-]?ip[46]:/i.test(term)).length > MOST_COSTLY)
    return { value: compose(terms), lookups: costs.total, isTooDear: true, changes };
  const writeOut = async (term: string, code: 'too-many-lookups' | 'one-family'): Promise<void> => {
    await breathe();
    const networks = /^ip[46]:/i.test(term) ? null : await networksOf(term, domain, lookup);
    if (networks === null || networks.length > MOST_WRITTEN_OUT) return;
    terms = once(
      terms.flatMap((one) => (one === term ? networks : [one])),
      domain,
    );
    changes.push({ term, code, networks: networks.length });
  };
  for (const term of [...terms]) {
    if (costs.total <= MOST_LOOKUPS) break;
    await writeOut(term, 'too-many-lookups');
    costs = await spfCosts(compose(terms), domain, lookup);
  }
  let isVoid = await looksForNothing(compose(terms), domain, lookup);
  for (const term of [...terms]) {
    if (!isVoid) break;
    if (!(await lacksFamily(term, domain, lookup))) continue;
    await writeOut(term, 'one-family');
    isVoid = await looksForNothing(compose(terms), domain, lookup);
  }
  costs = await spfCosts(compose(terms), domain, lookup);
  return { value: compose(terms), lookups: costs.total, isTooDear: isVoid || costs.total > MOST_LOOKUPS, changes };
}

const asIf =
  (record: string, domain: string, lookup: Lookup): Lookup =>
  async (name, type) =>
    name === domain && type === 'TXT' ? ({ kind: 'found', values: [record], ttl: 0, alias: null } as never) : lookup(name, type);

/** Whether strangers of some kind would get an error because too many terms look for what is not there, were the record published. */
async function looksForNothing(record: string, domain: string, lookup: Lookup): Promise<boolean> {
  for (const clientAddress of STRANGERS) {
    const question = { clientAddress, sender: `postmaster@${domain}`, domain, helo: `host.${domain}` };
    if ((await evaluateSpf(question, asIf(record, domain, lookup))).isVoid) return true;
  }
  return false;
}

/** Whether a term is looked for in vain by clients of one kind, IPv4 or IPv6. */
async function lacksFamily(term: string, domain: string, lookup: Lookup): Promise<boolean> {
  const networks = (await networksOf(term, domain, lookup)) ?? [];
  return new Set(networks.map((one) => one.slice(0, 3))).size < 2;
}

const MOST_COSTLY = 40;
/** More networks than this in place of one term make a record that no form takes. */
const MOST_WRITTEN_OUT = 20;

/** Each term where it stands first. */
function once(terms: readonly string[], domain: string): string[] {
  const keys = new Set<string>();
  return terms.filter((term) => {
    const key = keyOf(term, domain);
    return !keys.has(key) && keys.add(key);
  });
}

/** `+a` and `a` are the same term. */
const bare = (term: string): string => term.replace(/^\+/, '');

/** What a term says, however it is spelt: two terms with one key say it twice. */
function keyOf(term: string, domain: string): string {
  const plain = bare(term).replace(/\.$/, '');
  const key = plain.includes('%') ? plain : plain.toLowerCase();
  if (/^[~?-]?(a|mx)(?=\/|$)/.test(key)) return key.replace(/^([~?-]?)(a|mx)/, `$1$2:${domain}`);
  return key.replace(/^([~?-]?ip4:.*)\/32$/, '$1').replace(/^([~?-]?ip6:.*)\/128$/, '$1');
}

/** Why a term can go, or must: it says nothing, says it again, breaks the record, or lets anyone in. */
async function whyDead(term: string, domain: string, kept: ReadonlySet<string>, lookup: Lookup): Promise<SpfReason | null> {
  const parsed = parseSpf(`v=spf1 ${term}`);
  if (parsed.kind === 'invalid') return { code: 'unreadable', reason: parsed.reason };
  if (kept.has(keyOf(term, domain))) return { code: 'twice' };
  const { redirect } = parsed.record;
  if (redirect !== null) return whyShut(redirect, domain, lookup);
  const [mechanism] = parsed.record.mechanisms;
  if (!mechanism) return null;
  const { name, value, prefix4, prefix6, qualifier } = mechanism;
  if (name === 'ptr') return { code: 'ptr' };
  if (name !== 'all' && qualifier === '+' && isWide(prefix4, prefix6)) return { code: 'lets-anyone-in', name: null };
  const target = (value ?? domain).toLowerCase();
  if (target.includes('%')) return null;
  if (name === 'include') return whyShut(target, domain, lookup);
  if (name !== 'a' && name !== 'mx') return null;
  const answers = await Promise.all(
    (name === 'mx' ? (['MX'] as const) : (['A', 'AAAA'] as const)).map((type) => lookUp(lookup, target, type)),
  );
  return answers.every((answer) => answer.kind === 'none') ? { code: name === 'mx' ? 'no-mx' : 'no-address', name: target } : null;
}

/** Why another name's record can't be used in this one. */
async function whyShut(name: string, domain: string, lookup: Lookup): Promise<SpfReason | null> {
  const target = name.toLowerCase().replace(/\.$/, '');
  if (target.includes('%')) return null;
  if (target === domain) return { code: 'includes-itself' };
  const answer = await lookUp(lookup, target, 'TXT');
  if (answer.kind === 'failed') return null;
  const records = answer.kind === 'found' ? answer.values.filter(isSpf) : [];
  if (records.length === 0) return { code: 'no-record', name: target };
  if (records.length > 1) return { code: 'several-records', name: target };
  if (await leadsBack(target, [domain], lookup)) return { code: 'leads-back', name: target };
  const results: SpfResult[] = [];
  for (const clientAddress of STRANGERS) {
    const outcome = await evaluateSpf({ clientAddress, sender: `postmaster@${target}`, domain: target, helo: `host.${target}` }, lookup);
    // A record that only asks too much can be written out; one that is broken can't.
    if (outcome.result === 'permerror' && !outcome.isVoid && outcome.lookups <= MOST_LOOKUPS)
      return { code: 'broken', name: target, reason: outcome.reason };
    results.push(outcome.result);
  }
  return isOpen(results) ? { code: 'lets-anyone-in', name: target } : null;
}

/** Whether the records that a name opens lead back to it, or to one that was opened before. */
async function leadsBack(target: string, above: readonly string[], lookup: Lookup): Promise<boolean> {
  if (above.includes(target)) return true;
  if (above.length > MOST_LOOKUPS) return false;
  const answer = await lookUp(lookup, target, 'TXT');
  const record = answer.kind === 'found' ? answer.values.find(isSpf) : undefined;
  for (const [, inner] of record === undefined ? [] : costlyTerms(record))
    if (inner !== null && (await leadsBack(inner, [...above, target], lookup))) return true;
  return false;
}

/** Addresses of nobody (RFC 5737, RFC 3849): a record that lets them send lets anyone. */
export const STRANGERS = ['192.0.2.251', '203.0.113.251', '2001:db8:ffff::251'] as const;
/** What strangers got, in their order. One network of documentation may be somebody's after all, in a test; both are nobody's. */
export const isOpen = ([four, other, six]: readonly SpfResult[]): boolean => (four === 'pass' && other === 'pass') || six === 'pass';
/** A network that is wider than this is not one sender's: the widest that anybody was given are /8 and /16. */
export const isWide = (prefix4: number | null, prefix6: number | null): boolean => (prefix4 ?? 8) < 8 || (prefix6 ?? 16) < 16;

/** Whether the record lets every one of our addresses send, were it published. */
async function covers(record: string, domain: string, ours: SpfSenders, lookup: Lookup): Promise<boolean> {
  const published = asIf(record, domain, lookup);
  for (const clientAddress of ours.addresses) {
    const { result } = await evaluateSpf({ clientAddress, sender: `postmaster@${domain}`, domain, helo: ours.name }, published);
    if (result !== 'pass') return false;
  }
  return true;
}

/** The networks that a term stands for today; null when it can't be written out, or leads to something else than networks. */
async function networksOf(term: string, domain: string, lookup: Lookup, depth = 0): Promise<string[] | null> {
  const parsed = parseSpf(`v=spf1 ${term}`);
  const [mechanism] = parsed.kind === 'ok' ? parsed.record.mechanisms : [];
  if (mechanism?.qualifier !== '+' || depth > MOST_LOOKUPS) return null;
  const { name, value, prefix4, prefix6, text } = mechanism;
  if (name === 'ip4' || name === 'ip6') return [bare(text)];
  const target = (value ?? domain).toLowerCase();
  if (target.includes('%')) return null;
  if (name === 'include') return networksIn(target, lookup, depth);
  if (name !== 'a' && name !== 'mx') return null;
  const hosts = name === 'a' ? [target] : await exchangesOf(target, lookup);
  if (hosts === null) return null;
  const networks: string[] = [];
  for (const host of hosts)
    for (const [type, kind, length] of [
      ['A', 'ip4', prefix4],
      ['AAAA', 'ip6', prefix6],
    ] as const) {
      const answer = await lookUp(lookup, host, type);
      if (answer.kind === 'failed') return null;
      if (answer.kind === 'found') networks.push(...answer.values.map((one) => `${kind}:${one}${length === null ? '' : `/${length}`}`));
    }
  return networks;
}

async function exchangesOf(target: string, lookup: Lookup): Promise<string[] | null> {
  const answer = await lookUp(lookup, target, 'MX');
  if (answer.kind === 'failed') return null;
  return answer.kind === 'found' ? answer.values.map(({ exchange }) => exchange).filter((one) => one !== '') : [];
}

/** The networks of a whole record that lets some in and says nothing else. */
async function networksIn(target: string, lookup: Lookup, depth: number): Promise<string[] | null> {
  const answer = await lookUp(lookup, target, 'TXT');
  const record = answer.kind === 'found' ? answer.values.find(isSpf) : undefined;
  const parsed = record === undefined ? null : parseSpf(record);
  if (parsed?.kind !== 'ok') return null;
  const networks: string[] = [];
  for (const { name, text } of parsed.record.mechanisms) {
    if (name === 'all') break;
    const inner = await networksOf(text, target, lookup, depth + 1);
    if (inner === null) return null;
    networks.push(...inner);
  }
  if (parsed.record.redirect === null || parsed.record.mechanisms.some(({ name }) => name === 'all')) return networks;
  const further = await networksIn(parsed.record.redirect.toLowerCase(), lookup, depth + 1);
  return further && [...networks, ...further];
}
