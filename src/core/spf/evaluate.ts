import ipaddr from 'ipaddr.js';
import { bareName } from '../address/domain.ts';
import { plainAddress } from '../address/ip-address.ts';
import { type Answer, answerText, type Lookup, lookUp, type RecordType } from '../records/answers.ts';
import { reverseName, sameAddress } from '../records/reverse-name.ts';
import { expandMacros, expandText, isExplanation, type MacroFacts } from './macros.ts';
import { isSpf, type Mechanism, parseSpf, type Qualifier, type SpfRecord } from './record.ts';

export type SpfResult = 'none' | 'neutral' | 'pass' | 'fail' | 'softfail' | 'temperror' | 'permerror';

/** One line of the trace, in the order of evaluation; `depth` makes it a tree. */
export interface SpfStep {
  depth: number;
  domain: string;
  /** A record that is opened, or one of its terms. */
  kind: 'record' | 'term';
  /** As published. */
  text: string;
  /** What was looked up for it, and what came back. */
  asked: { type: RecordType; name: string; answer: string }[];
  /** Look-ups charged so far, this one included (RFC 7208 §4.6.4). */
  lookups: number;
  outcome: 'match' | 'no-match' | 'result' | 'error';
  note: string;
}

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

export interface SpfQuestion {
  clientAddress: string;
  /** MAIL FROM, or postmaster@HELO for a null sender (RFC 7208 §2.4). */
  sender: string;
  domain: string;
  helo: string;
  /** Who asks, for explanations. */
  receiver?: string;
  /** Seconds since 1970, for explanations. */
  at?: number;
}

export const MOST_LOOKUPS = 10;
const MOST_VOID = 2;
const MOST_NAMES = 10;
const RESULTS: Record<Qualifier, SpfResult> = { '+': 'pass', '-': 'fail', '~': 'softfail', '?': 'neutral' };

/** Ends the evaluation from any depth with an error result. */
class SpfEnd extends Error {
  constructor(
    readonly result: 'temperror' | 'permerror',
    reason: string,
    readonly isVoid = false,
  ) {
    super(reason);
  }
}

interface Run {
  question: SpfQuestion;
  lookup: Lookup;
  lookups: number;
  /** Terms that asked for what is not there. */
  voids: Set<SpfStep>;
  validatedName: string | null;
  steps: SpfStep[];
}

/** Where the evaluation stands: which record, how deep, and the step that look-ups belong to. */
interface Place {
  domain: string;
  depth: number;
  step: SpfStep;
}

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
    return outcome('none', null, `"${question.domain.slice(0, 80)}" is no domain name that could have a record`);
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
    charge(run, step);
    const target = await expand(record.redirect, { domain, depth, step }, run);
    const verdict = await checkDomain(target, depth + 1, run);
    // §6.1: a redirect to nothing is a broken record. §6.2: the explanation is the target's.
    if (verdict.result === 'none') throw new SpfEnd('permerror', `redirect of ${domain}: ${verdict.reason}`);
    Object.assign(step, { outcome: 'result', note: verdict.result });
    return verdict;
  }
  return { result: 'neutral', term: null, reason: `no term of ${domain} matches ${run.question.clientAddress}`, exp: null };
}

function openTerm(text: string, { domain, depth }: Place, run: Run): SpfStep {
  const step: SpfStep = { depth, domain, kind: 'term', text, asked: [], lookups: run.lookups, outcome: 'no-match', note: '' };
  run.steps.push(step);
  return step;
}

function charge(run: Run, step: SpfStep): void {
  run.lookups += 1;
  step.lookups = run.lookups;
  if (run.lookups > MOST_LOOKUPS)
    throw new SpfEnd('permerror', `more than ${MOST_LOOKUPS} look-ups, reached at "${step.text}" (RFC 7208 §4.6.4)`);
}

async function matches(mechanism: Mechanism, place: Place, run: Run): Promise<boolean> {
  if (mechanism.name === 'all') return true;
  if (mechanism.name === 'ip4' || mechanism.name === 'ip6')
    return inNetwork(run.question.clientAddress, mechanism.value ?? '', mechanism.prefix4 ?? mechanism.prefix6);
  charge(run, place.step);
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

async function look<T extends RecordType>(name: string, type: T, run: Run, step: SpfStep): Promise<Answer<T>> {
  const answer = await lookUp(run.lookup, name, type);
  step.asked.push({ type, name, answer: answerText(answer as Answer<RecordType>) });
  return answer;
}

const addresses = (name: string, run: Run, step: SpfStep): Promise<string[]> =>
  ask(name, run.question.clientAddress.includes(':') ? 'AAAA' : 'A', run, step);

async function ask<T extends 'A' | 'AAAA' | 'MX'>(name: string, type: T, run: Run, step: SpfStep) {
  const answer = await look(name, type, run, step);
  if (answer.kind === 'failed') throw new SpfEnd('temperror', `no answer for ${type} of ${name}: ${answer.reason}`);
  if (answer.kind === 'found') return answer.values;
  // However many of its names lead nowhere, a term counts once.
  run.voids.add(step);
  if (run.voids.size > MOST_VOID)
    throw new SpfEnd('permerror', `more than ${MOST_VOID} terms look for what is not there, reached at ${name} (RFC 7208 §4.6.4)`, true);
  return [];
}

function anyAddressMatches(found: string[], mechanism: Mechanism, run: Run): boolean {
  const length = run.question.clientAddress.includes(':') ? mechanism.prefix6 : mechanism.prefix4;
  return found.some((address) => inNetwork(run.question.clientAddress, address, length));
}

function inNetwork(client: string, network: string, length: number | null): boolean {
  if (!ipaddr.isValid(client) || !ipaddr.isValid(network)) return false;
  const one = ipaddr.parse(client);
  const other = ipaddr.parse(network);
  if (one.kind() !== other.kind()) return false;
  return one.match(other, length ?? (one.kind() === 'ipv4' ? 32 : 128));
}

/** The client's names that lead back to it (§5.5); errors there mean no name. */
async function validatedNames(run: Run, step: SpfStep): Promise<string[]> {
  if (!ipaddr.isValid(run.question.clientAddress)) return [];
  const answer = await look(reverseName(run.question.clientAddress), 'PTR', run, step);
  const names: string[] = [];
  for (const name of answer.kind === 'found' ? answer.values.slice(0, MOST_NAMES) : []) {
    const forward = await look(name, run.question.clientAddress.includes(':') ? 'AAAA' : 'A', run, step);
    if (forward.kind === 'found' && forward.values.some((address) => sameAddress(address, run.question.clientAddress)))
      names.push(bareName(name));
  }
  return names;
}

async function expand(spec: string, place: Place, run: Run): Promise<string> {
  return expandMacros(spec, await macroFacts(spec, place, run));
}

async function macroFacts(spec: string, { domain, step }: Place, run: Run): Promise<MacroFacts> {
  if (/%\{p/i.test(spec) && run.validatedName === null) run.validatedName = bestName(await validatedNames(run, step), domain);
  const { sender, clientAddress, helo, receiver, at } = run.question;
  return {
    sender,
    domain,
    clientAddress,
    helo,
    validatedName: run.validatedName ?? 'unknown',
    ...(receiver === undefined ? {} : { receiver }),
    ...(at === undefined ? {} : { at }),
  };
}

/** §7.3: the domain's own name before one below it before any other. */
function bestName(names: string[], domain: string): string {
  return names.find((name) => name === domain) ?? names.find((name) => name.endsWith(`.${domain}`)) ?? names[0] ?? 'unknown';
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
