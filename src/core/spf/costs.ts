import { type Lookup, lookUp } from '../records/answers.ts';
import { isSpf, parseSpf } from './record.ts';

export interface SpfCosts {
  /** Look-ups of the whole record, whichever term would match (RFC 7208 §4.6.4). */
  total: number;
  /** What each term of the domain's own record costs, those inside it included. */
  terms: { term: string; lookups: number }[];
}

/** More than this is counted no further: the record is far over its limit, or leads in a circle. */
const ENOUGH = 60;

/** Counts what evaluating the whole record may cost, so that the dearest include can be named. */
export async function spfCosts(record: string, domain: string, lookup: Lookup): Promise<SpfCosts> {
  const counted = { total: 0 };
  const terms: SpfCosts['terms'] = [];
  for (const [term, target] of costlyTerms(record)) {
    const before = counted.total;
    await count(target, [domain], counted, lookup);
    terms.push({ term, lookups: counted.total - before });
  }
  return { total: counted.total, terms };
}

async function count(target: string | null, above: string[], counted: { total: number }, lookup: Lookup): Promise<void> {
  counted.total += 1;
  if (target === null || above.includes(target) || counted.total > ENOUGH) return;
  const answer = await lookUp(lookup, target, 'TXT');
  const record = answer.kind === 'found' ? answer.values.find(isSpf) : undefined;
  for (const [, inner] of record ? costlyTerms(record) : []) await count(inner, [...above, target], counted, lookup);
}

/** The terms that cost a look-up, with the domain whose record they open; null for those that open none. */
export function costlyTerms(record: string): [term: string, target: string | null][] {
  const parsed = parseSpf(record);
  if (parsed.kind === 'invalid') return [];
  const { mechanisms, redirect } = parsed.record;
  const terms: [string, string | null][] = mechanisms
    .filter(({ name }) => name !== 'all' && name !== 'ip4' && name !== 'ip6')
    .map(({ name, value, text }) => [text, name === 'include' ? opened(value) : null]);
  const ends = mechanisms.some(({ name }) => name === 'all');
  return redirect === null || ends ? terms : [...terms, [`redirect=${redirect}`, opened(redirect)]];
}

/** A name with macros depends on the message, so it is counted once and not followed. */
const opened = (value: string | null): string | null => (value === null || value.includes('%') ? null : value.toLowerCase());
