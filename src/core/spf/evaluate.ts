import { bareName } from '../address/domain.ts';
import { plainAddress } from '../address/ip-address.ts';
import { answerText, type Lookup, lookUp } from '../records/answers.ts';
import { expandText, isExplanation } from './macros.ts';
import { isSpf, type Mechanism, parseSpf, type Qualifier, type SpfRecord } from './record.ts';
import {
  addresses,
  anyAddressMatches,
  ask,
  countTerm,
  expand,
  inNetwork,
  look,
  MOST_NAMES,
  macroFacts,
  openTerm,
  type Place,
  type Run,
  SpfEnd,
  type SpfQuestion,
  type SpfResult,
  type SpfStep,
  validatedNames,
} from './run.ts';

export interface SpfOutcome {
  result: SpfResult;
  /** The term that decided, as written; null when none did. */
  term: string | null;
  reason: string;
  /** Whether it is an error because too many terms look for what is not there. */
  isVoid: boolean;
  /** Terms that cost a look-up (RFC 7208 §4.6.4). */
  lookups: number;
  /** What the domain says about a fail (RFC 7208 §6.2); null when it says nothing. */
  explanation: string | null;
  steps: SpfStep[];
}
const RESULTS: Record<Qualifier, SpfResult> = { '+': 'pass', '-': 'fail', '~': 'softfail', '?': 'neutral' };

type SpfVerdict = { result: SpfResult; term: string | null; reason: string; exp: { spec: string; domain: string } | null };

/** check_host() of RFC 7208 §4: may this client send for this domain? */
export async function evaluateSpf(asked: SpfQuestion, lookup: Lookup): Promise<SpfOutcome> {
  // §4.3: a sender without local part is postmaster.
  const question = {
    ...asked,
    // §5: an IPv4 address in an IPv6 dress is an IPv4 address.
    clientAddress: plainAddress(asked.clientAddress),
    sender: asked.sender.startsWith('@') || !asked.sender.includes('@') ? `postmaster@${asked.domain}` : asked.sender,
  };
  const run: Run = { question, lookup, lookups: 0, voids: new Set(), validatedName: null, steps: [] };
  const outcome = (
    result: SpfResult,
    term: string | null,
    reason: string,
    explanation: string | null = null,
    isVoid = false,
  ): SpfOutcome => ({
    result,
    term,
    reason,
    isVoid,
    lookups: run.lookups,
    explanation,
    steps: run.steps,
  });
  if (!isMailDomain(question.domain))
    return outcome('none', null, `"${question.domain.slice(0, 80)}" is not a domain name that could have a record`);
  try {
    const verdict = await checkDomain(question.domain, 0, run);
    return outcome(verdict.result, verdict.term, verdict.reason, verdict.result === 'fail' ? await explain(verdict, run) : null);
  } catch (error) {
    if (!(error instanceof SpfEnd)) throw error;
    const last = run.steps.at(-1);
    if (last) Object.assign(last, { outcome: 'error', note: error.message });
    return outcome(error.result, null, error.message, null, error.isVoid);
  }
}

/** The HELO identity (RFC 7208 §2.3). */
export const evaluateHelo = (
  client: { clientAddress: string; helo: string; receiver?: string; at?: number },
  lookup: Lookup,
): Promise<SpfOutcome> => evaluateSpf({ ...client, sender: `postmaster@${client.helo}`, domain: client.helo.toLowerCase() }, lookup);

/** §4.3: at least two labels, none of them empty or longer than 63 octets; no address literal. */
const isMailDomain = (name: string): boolean => name.length <= 253 && /^[^.[\]\s]{1,63}(\.[^.[\]\s]{1,63})+\.?$/.test(name);

async function checkDomain(domain: string, depth: number, run: Run): Promise<SpfVerdict> {
  const step: SpfStep = { depth, domain, kind: 'record', text: '', asked: [], lookups: run.lookups, outcome: 'result', note: '' };
  run.steps.push(step);
  const answer = await look(domain, 'TXT', run, step);
  if (answer.kind === 'failed') throw new SpfEnd('temperror', `no answer for the TXT records of ${domain}: ${answer.reason}`);
  const records = answer.kind === 'found' ? answer.values.filter(isSpf) : [];
  // The other TXT records of the name are nobody's concern here.
  step.asked = [
    {
      type: 'TXT',
      name: domain,
      answer: records.join(' | ') || (answer.kind === 'found' ? 'no SPF record among them' : answerText(answer)),
    },
  ];
  step.text = records.join(' | ');
  const none: SpfVerdict = { result: 'none', term: null, reason: `${domain} has no SPF record`, exp: null };
  if (records.length === 0) {
    step.note = none.reason;
    return none;
  }
  if (records.length > 1) throw new SpfEnd('permerror', `${domain} has ${records.length} SPF records; one is allowed (RFC 7208 §4.5)`);
  const parsed = parseSpf(records[0] ?? '');
  if (parsed.kind === 'invalid')
    throw new SpfEnd('permerror', `in the record of ${domain}, at character ${parsed.position + 1}, "${parsed.term}": ${parsed.reason}`);
  const verdict = await checkRecord(parsed.record, { domain, depth, step }, run);
  step.note = verdict.result;
  return verdict;
}

async function checkRecord(record: SpfRecord, place: Place, run: Run): Promise<SpfVerdict> {
  const { domain, depth } = place;
  const exp = record.exp === null ? null : { spec: record.exp, domain };
  for (const mechanism of record.mechanisms) {
    const step = openTerm(mechanism.text, place, run);
    const met = await matches(mechanism, { domain, depth, step }, run);
    step.outcome = met ? 'match' : 'no-match';
    if (!met) continue;
    const result = RESULTS[mechanism.qualifier];
    step.note ||= result;
    return { result, term: mechanism.text, reason: `${run.question.clientAddress} matches "${mechanism.text}" of ${domain}`, exp };
  }
  if (record.redirect !== null) {
    const step = openTerm(`redirect=${record.redirect}`, place, run);
    countTerm(run, step);
    const target = await expand(record.redirect, { domain, depth, step }, run);
    const verdict = await checkDomain(target, depth + 1, run);
    // §6.1: a redirect to nothing is a broken record. §6.2: the explanation is the target's.
    if (verdict.result === 'none') throw new SpfEnd('permerror', `redirect of ${domain}: ${verdict.reason}`);
    Object.assign(step, { outcome: 'result', note: verdict.result });
    return verdict;
  }
  return { result: 'neutral', term: null, reason: `no term of ${domain} matches ${run.question.clientAddress}`, exp: null };
}

async function matches(mechanism: Mechanism, place: Place, run: Run): Promise<boolean> {
  if (mechanism.name === 'all') return true;
  if (mechanism.name === 'ip4' || mechanism.name === 'ip6')
    return inNetwork(run.question.clientAddress, mechanism.value ?? '', mechanism.prefix4 ?? mechanism.prefix6);
  countTerm(run, place.step);
  const target = mechanism.value === null ? place.domain : await expand(mechanism.value, place, run);
  switch (mechanism.name) {
    case 'include':
      return includeMatches(target, place, run);
    case 'a':
      return anyAddressMatches(await addresses(target, run, place.step), mechanism, run);
    case 'exists':
      // §5.7: always an A look-up.
      return (await ask(target, 'A', run, place.step)).length > 0;
    case 'mx': {
      const exchanges = await ask(target, 'MX', run, place.step);
      // §4.6.4: the limit counts the names that MX brings.
      if (exchanges.length > MOST_NAMES) throw new SpfEnd('permerror', `${target} has more than ${MOST_NAMES} MX records`);
      for (const { exchange } of exchanges)
        if (exchange !== '' && anyAddressMatches(await addresses(exchange, run, place.step), mechanism, run)) return true;
      return false;
    }
    default: {
      const names = await validatedNames(run, place.step);
      const wanted = bareName(target);
      return names.some((name) => name === wanted || name.endsWith(`.${wanted}`));
    }
  }
}

/** §5.2: what an included record's result means for the including one. */
async function includeMatches(target: string, place: Place, run: Run): Promise<boolean> {
  const verdict = await checkDomain(target, place.depth + 1, run);
  if (verdict.result === 'none') throw new SpfEnd('permerror', `include: ${verdict.reason}`);
  place.step.note = `${target} says ${verdict.result}`;
  return verdict.result === 'pass';
}

/** The domain's own words on a fail (§6.2); whatever goes wrong there, there are none. */
async function explain({ exp }: SpfVerdict, run: Run): Promise<string | null> {
  const step = run.steps[0];
  if (exp === null || !step) return null;
  const place: Place = { domain: exp.domain, depth: 0, step: { ...step, asked: [] } };
  const answer = await lookUp(run.lookup, await expand(exp.spec, place, run), 'TXT');
  const text = answer.kind === 'found' && answer.values.length === 1 ? (answer.values[0] ?? '') : '';
  if (!isExplanation(text)) return null;
  return expandText(text, await macroFacts(text, place, run)).slice(0, 500);
}
