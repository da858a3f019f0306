import ipaddr from 'ipaddr.js';
import type { Lookup } from '../records/answers.ts';
import { reverseName, sameAddress } from '../records/reverse-name.ts';
import { expandMacros, type MacroFacts } from './macros.ts';
import { isSpf, type Mechanism, parseSpf, type Qualifier, type SpfRecord } from './record.ts';

export type SpfResult = 'none' | 'neutral' | 'pass' | 'fail' | 'softfail' | 'temperror' | 'permerror';

export interface SpfOutcome {
  result: SpfResult;
  /** The term that decided, as written; null when none did. */
  term: string | null;
  reason: string;
  /** Terms that cost a look-up (RFC 7208 §4.6.4). */
  lookups: number;
}

export interface SpfQuestion {
  clientAddress: string;
  /** MAIL FROM, or postmaster@HELO for a null sender (RFC 7208 §2.4). */
  sender: string;
  domain: string;
  helo: string;
}

const MOST_LOOKUPS = 10;
const MOST_VOID = 2;
const MOST_NAMES = 10;
const RESULTS: Record<Qualifier, SpfResult> = { '+': 'pass', '-': 'fail', '~': 'softfail', '?': 'neutral' };

/** Ends the evaluation from any depth with an error result. */
class Stop extends Error {
  constructor(
    readonly result: 'temperror' | 'permerror',
    reason: string,
  ) {
    super(reason);
  }
}

interface Run {
  question: SpfQuestion;
  lookup: Lookup;
  lookups: number;
  voids: number;
  validatedName: string | null;
}

/** check_host() of RFC 7208 §4: may this client send for this domain? */
export async function evaluateSpf(question: SpfQuestion, lookup: Lookup): Promise<SpfOutcome> {
  const run: Run = { question, lookup, lookups: 0, voids: 0, validatedName: null };
  try {
    const { result, term, reason } = await checkDomain(question.domain, run);
    return { result, term, reason, lookups: run.lookups };
  } catch (error) {
    if (!(error instanceof Stop)) throw error;
    return { result: error.result, term: null, reason: error.message, lookups: run.lookups };
  }
}

type Verdict = { result: SpfResult; term: string | null; reason: string };

async function checkDomain(domain: string, run: Run): Promise<Verdict> {
  const answer = await run.lookup(domain, 'TXT');
  if (answer.kind === 'failed') throw new Stop('temperror', `no answer for the TXT records of ${domain}: ${answer.reason}`);
  const records = answer.kind === 'found' ? answer.values.filter(isSpf) : [];
  if (records.length === 0) return { result: 'none', term: null, reason: `${domain} has no SPF record` };
  if (records.length > 1) throw new Stop('permerror', `${domain} has ${records.length} SPF records; one is allowed (RFC 7208 §4.5)`);
  const parsed = parseSpf(records[0] ?? '');
  if (parsed.kind === 'invalid') throw new Stop('permerror', `in the record of ${domain}, "${parsed.term}": ${parsed.reason}`);
  return checkRecord(parsed.record, domain, run);
}

async function checkRecord(record: SpfRecord, domain: string, run: Run): Promise<Verdict> {
  for (const mechanism of record.mechanisms) {
    if (await matches(mechanism, domain, run))
      return {
        result: RESULTS[mechanism.qualifier],
        term: mechanism.text,
        reason: `${run.question.clientAddress} matches "${mechanism.text}" of ${domain}`,
      };
  }
  if (record.redirect !== null) {
    charge(run, `redirect=${record.redirect}`);
    const target = await expand(record.redirect, domain, run);
    const verdict = await checkDomain(target, run);
    // §6.1: a redirect to nothing is a broken record.
    if (verdict.result === 'none') throw new Stop('permerror', `redirect of ${domain}: ${verdict.reason}`);
    return verdict;
  }
  return { result: 'neutral', term: null, reason: `no term of ${domain} matches ${run.question.clientAddress}` };
}

function charge(run: Run, term: string): void {
  run.lookups += 1;
  if (run.lookups > MOST_LOOKUPS) throw new Stop('permerror', `more than ${MOST_LOOKUPS} look-ups, reached at "${term}" (RFC 7208 §4.6.4)`);
}

async function matches(mechanism: Mechanism, domain: string, run: Run): Promise<boolean> {
  if (mechanism.name === 'all') return true;
  if (mechanism.name === 'ip4' || mechanism.name === 'ip6')
    return inNetwork(run.question.clientAddress, mechanism.value ?? '', mechanism.prefix4 ?? mechanism.prefix6);
  charge(run, mechanism.text);
  const target = mechanism.value === null ? domain : await expand(mechanism.value, domain, run);
  switch (mechanism.name) {
    case 'include':
      return includeMatches(target, run);
    case 'a':
      return anyAddressMatches(await addresses(target, run), mechanism, run);
    case 'exists':
      // §5.7: always an A look-up.
      return (await ask(target, 'A', run)).length > 0;
    case 'mx': {
      const exchanges = await ask(target, 'MX', run);
      // §4.6.4: the limit counts the names that MX brings.
      if (exchanges.length > MOST_NAMES) throw new Stop('permerror', `${target} has more than ${MOST_NAMES} MX records`);
      for (const { exchange } of exchanges)
        if (exchange !== '' && anyAddressMatches(await addresses(exchange, run), mechanism, run)) return true;
      return false;
    }
    default: {
      const names = await validatedNames(run);
      return names.some((name) => name === target.toLowerCase() || name.endsWith(`.${target.toLowerCase()}`));
    }
  }
}

/** §5.2: what an included record's result means for the including one. */
async function includeMatches(target: string, run: Run): Promise<boolean> {
  const verdict = await checkDomain(target, run);
  if (verdict.result === 'none') throw new Stop('permerror', `include: ${verdict.reason}`);
  return verdict.result === 'pass';
}

const addresses = (name: string, run: Run): Promise<string[]> => ask(name, run.question.clientAddress.includes(':') ? 'AAAA' : 'A', run);

async function ask<T extends 'A' | 'AAAA' | 'MX' | 'PTR'>(name: string, type: T, run: Run) {
  const answer = await run.lookup(name, type);
  if (answer.kind === 'failed') throw new Stop('temperror', `no answer for ${type} of ${name}: ${answer.reason}`);
  if (answer.kind === 'found') return answer.values;
  run.voids += 1;
  if (run.voids > MOST_VOID)
    throw new Stop('permerror', `more than ${MOST_VOID} look-ups without an answer, reached at ${name} (RFC 7208 §4.6.4)`);
  return [];
}

function anyAddressMatches(found: string[], mechanism: Mechanism, run: Run): boolean {
  const length = run.question.clientAddress.includes(':') ? mechanism.prefix6 : mechanism.prefix4;
  return found.some((address) => inNetwork(run.question.clientAddress, address, length));
}

function inNetwork(client: string, network: string, length: number | null): boolean {
  if (!ipaddr.isValid(client) || !ipaddr.isValid(network)) return false;
  const one = ipaddr.process(client);
  const other = ipaddr.process(network);
  if (one.kind() !== other.kind()) return false;
  return one.match(other, length ?? (one.kind() === 'ipv4' ? 32 : 128));
}

/** The client's names that lead back to it (§5.5); errors there mean no name. */
async function validatedNames(run: Run): Promise<string[]> {
  const answer = await run.lookup(reverseName(run.question.clientAddress), 'PTR');
  const names: string[] = [];
  for (const name of answer.kind === 'found' ? answer.values.slice(0, MOST_NAMES) : []) {
    const forward = await run.lookup(name, run.question.clientAddress.includes(':') ? 'AAAA' : 'A');
    if (forward.kind === 'found' && forward.values.some((address) => sameAddress(address, run.question.clientAddress)))
      names.push(name.toLowerCase());
  }
  return names;
}

async function expand(spec: string, domain: string, run: Run): Promise<string> {
  if (/%\{p/i.test(spec) && run.validatedName === null) run.validatedName = (await validatedNames(run))[0] ?? 'unknown';
  const facts: MacroFacts = {
    sender: run.question.sender,
    domain,
    clientAddress: run.question.clientAddress,
    helo: run.question.helo,
    validatedName: run.validatedName ?? 'unknown',
  };
  return expandMacros(spec, facts);
}
