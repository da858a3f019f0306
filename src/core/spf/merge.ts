import type { Lookup } from '../records/answers.ts';
import { spfCosts } from './costs.ts';
import { evaluateSpf, MOST_LOOKUPS } from './evaluate.ts';
import { isSpf, parseSpf } from './record.ts';

export interface SpfProposal {
  /** The one record to publish. */
  value: string;
  /** What it costs of the ten look-ups. */
  lookups: number;
  /** Terms of the published records that it leaves out or replaces, and why. */
  changes: { term: string; why: string }[];
}

/** Who must be let send: this host at each address, and whoever the outlets name. */
export interface SpfSenders {
  name: string;
  addresses: readonly string[];
  /** Domains whose records the smart hosts ask to have included. */
  outletIncludes: readonly string[];
}

/**
 * The one record that lets us send and keeps what was published: terms keep their order, repeated and dead ones go, ours come first,
 * and the strictest `all` stays; one that lets anyone in gives way to `-all`. When that costs too many look-ups, ours and then
 * the shortest includes are written out as addresses.
 */
export async function proposeSpf(domain: string, published: readonly string[], ours: SpfSenders, lookup: Lookup): Promise<SpfProposal> {
  const changes: SpfProposal['changes'] = [];
  const theirs: string[] = [];
  const endings: string[] = [];
  for (const text of published) {
    let ended = false;
    for (const term of text.trim().split(/ +/).slice(1)) {
      const why = ended ? 'it stands after “all”, where nothing is read' : await whyDead(term, domain, theirs, lookup);
      if (/^[+~?-]?all$/i.test(term)) {
        endings.push(term.toLowerCase());
        ended = true;
      } else if (why === null) theirs.push(bare(term));
      else changes.push({ term, why });
    }
  }
  const end = ['-all', '~all'].find((ending) => endings.includes(ending));
  // RFC 7208 §6.1: beside “all” a redirect is never read; several can't be obeyed.
  const redirects = theirs.filter((term) => /^redirect=/i.test(term));
  const kept = theirs.filter((term) => !redirects.includes(term));
  for (const term of redirects)
    if (endings.length > 0) changes.push({ term, why: 'a record with “all” never comes to its redirect' });
    else kept.push(redirects.length === 1 ? term : `include:${term.slice('redirect='.length)}`);
  const compose = (terms: readonly string[]): string => {
    const redirect = terms.find((term) => /^redirect=/i.test(term));
    return ['v=spf1', ...terms.filter((term) => term !== redirect), redirect ?? end ?? '-all'].join(' ');
  };
  const includes = ours.outletIncludes.map((name) => `include:${name}`).filter((term) => !kept.includes(term));
  const covered = published.length > 0 && (await covers(compose(kept), domain, ours, lookup));
  let terms = [...(covered ? [] : [`a:${ours.name}`]), ...includes, ...kept];
  let costs = await spfCosts(compose(terms), domain, lookup);
  if (costs.total > MOST_LOOKUPS && terms[0] === `a:${ours.name}`) {
    terms = [...ours.addresses.map((address) => `${address.includes(':') ? 'ip6' : 'ip4'}:${address}`), ...terms.slice(1)];
    costs = await spfCosts(compose(terms), domain, lookup);
  }
  for (const term of [...terms]) {
    if (costs.total <= MOST_LOOKUPS) break;
    const networks = await networksOf(term, lookup);
    if (networks === null) continue;
    terms = terms.flatMap((one) => (one === term ? networks : [one]));
    changes.push({
      term,
      why: `its ${networks.length} networks of today are written out, because the record asks for too many look-ups; look after them`,
    });
    costs = await spfCosts(compose(terms), domain, lookup);
  }
  return { value: compose(terms), lookups: costs.total, changes };
}

/** `+a` and `a` are the same term. */
const bare = (term: string): string => term.replace(/^\+/, '');

async function whyDead(term: string, domain: string, kept: readonly string[], lookup: Lookup): Promise<string | null> {
  const parsed = parseSpf(`v=spf1 ${term}`);
  if (parsed.kind === 'invalid') return `it can’t be read: ${parsed.reason}`;
  if (kept.includes(bare(term))) return 'it is given twice';
  const [mechanism] = parsed.record.mechanisms;
  if (!mechanism) return null;
  if (mechanism.name === 'ptr') return 'ptr is slow and unreliable, and no longer to be used (RFC 7208 §5.5)';
  const target = (mechanism.value ?? domain).toLowerCase();
  if (target.includes('%')) return null;
  if (mechanism.name === 'include') {
    if (target === domain) return 'it includes itself';
    const answer = await lookup(target, 'TXT');
    if (answer.kind === 'none' || (answer.kind === 'found' && !answer.values.some(isSpf))) return `${target} has no SPF record`;
    return null;
  }
  if (mechanism.name !== 'a' && mechanism.name !== 'mx') return null;
  const answers = await Promise.all(
    (mechanism.name === 'mx' ? (['MX'] as const) : (['A', 'AAAA'] as const)).map((type) => lookup(target, type)),
  );
  return answers.every((answer) => answer.kind === 'none') ? `${target} has no ${mechanism.name === 'mx' ? 'MX record' : 'address'}` : null;
}

/** Whether the record lets every one of our addresses send, were it published. */
async function covers(record: string, domain: string, ours: SpfSenders, lookup: Lookup): Promise<boolean> {
  const published: Lookup = async (name, type) =>
    name === domain && type === 'TXT' ? ({ kind: 'found', values: [record], ttl: 0, alias: null } as never) : lookup(name, type);
  for (const clientAddress of ours.addresses) {
    const { result } = await evaluateSpf({ clientAddress, sender: `postmaster@${domain}`, domain, helo: ours.name }, published);
    if (result !== 'pass') return false;
  }
  return true;
}

/** The networks that an include stands for, when its record holds nothing else; null when it can't be written out. */
async function networksOf(term: string, lookup: Lookup): Promise<string[] | null> {
  const target = /^include:([^%]+)$/i.exec(term)?.[1];
  if (target === undefined) return null;
  const answer = await lookup(target, 'TXT');
  const record = answer.kind === 'found' ? answer.values.find(isSpf) : undefined;
  const parsed = record === undefined ? null : parseSpf(record);
  if (parsed?.kind !== 'ok' || parsed.record.redirect !== null) return null;
  const terms = parsed.record.mechanisms.filter(({ name }) => name !== 'all');
  if (terms.some(({ name, qualifier }) => (name !== 'ip4' && name !== 'ip6') || qualifier === '-')) return null;
  return terms.filter(({ qualifier }) => qualifier === '+').map(({ text }) => bare(text));
}
