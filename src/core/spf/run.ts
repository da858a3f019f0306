import ipaddr from 'ipaddr.js';
import { bareName } from '../address/domain.ts';
import { type Answer, answerText, type Lookup, lookUp, type RecordType } from '../records/answers.ts';
import { reverseName, sameAddress } from '../records/reverse-name.ts';
import { expandMacros, type MacroFacts } from './macros.ts';
import type { Mechanism } from './record.ts';

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
export const MOST_NAMES = 10;

/** Ends the evaluation from any depth with an error result. */
export class SpfEnd extends Error {
  constructor(
    readonly result: 'temperror' | 'permerror',
    reason: string,
    readonly isVoid = false,
  ) {
    super(reason);
  }
}

export interface Run {
  question: SpfQuestion;
  lookup: Lookup;
  lookups: number;
  /** Terms that asked for what is not there. */
  voids: Set<SpfStep>;
  validatedName: string | null;
  steps: SpfStep[];
}

/** Where the evaluation stands: which record, how deep, and the step that look-ups belong to. */
export interface Place {
  domain: string;
  depth: number;
  step: SpfStep;
}

export function openTerm(text: string, { domain, depth }: Place, run: Run): SpfStep {
  const step: SpfStep = { depth, domain, kind: 'term', text, asked: [], lookups: run.lookups, outcome: 'no-match', note: '' };
  run.steps.push(step);
  return step;
}

export function countTerm(run: Run, step: SpfStep): void {
  run.lookups += 1;
  step.lookups = run.lookups;
  if (run.lookups > MOST_LOOKUPS)
    throw new SpfEnd('permerror', `more than ${MOST_LOOKUPS} look-ups, reached at "${step.text}" (RFC 7208 §4.6.4)`);
}

export async function look<T extends RecordType>(name: string, type: T, run: Run, step: SpfStep): Promise<Answer<T>> {
  const answer = await lookUp(run.lookup, name, type);
  step.asked.push({ type, name, answer: answerText(answer as Answer<RecordType>) });
  return answer;
}

export const addresses = (name: string, run: Run, step: SpfStep): Promise<string[]> =>
  ask(name, run.question.clientAddress.includes(':') ? 'AAAA' : 'A', run, step);

export async function ask<T extends 'A' | 'AAAA' | 'MX'>(name: string, type: T, run: Run, step: SpfStep) {
  const answer = await look(name, type, run, step);
  if (answer.kind === 'failed') throw new SpfEnd('temperror', `no answer for ${type} of ${name}: ${answer.reason}`);
  if (answer.kind === 'found') return answer.values;
  // However many of its names lead nowhere, a term counts once.
  run.voids.add(step);
  if (run.voids.size > MOST_VOID)
    throw new SpfEnd('permerror', `more than ${MOST_VOID} void look-ups, reached at ${name} (RFC 7208 §4.6.4)`, true);
  return [];
}

export function anyAddressMatches(found: string[], mechanism: Mechanism, run: Run): boolean {
  const length = run.question.clientAddress.includes(':') ? mechanism.prefix6 : mechanism.prefix4;
  return found.some((address) => inNetwork(run.question.clientAddress, address, length));
}

export function inNetwork(client: string, network: string, length: number | null): boolean {
  if (!ipaddr.isValid(client) || !ipaddr.isValid(network)) return false;
  const one = ipaddr.parse(client);
  const other = ipaddr.parse(network);
  if (one.kind() !== other.kind()) return false;
  return one.match(other, length ?? (one.kind() === 'ipv4' ? 32 : 128));
}

/** The client's names that lead back to it (§5.5); errors there mean no name. */
export async function validatedNames(run: Run, step: SpfStep): Promise<string[]> {
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

export async function expand(spec: string, place: Place, run: Run): Promise<string> {
  return expandMacros(spec, await macroFacts(spec, place, run));
}

export async function macroFacts(spec: string, { domain, step }: Place, run: Run): Promise<MacroFacts> {
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
