import { domainSide } from '../address/sides.ts';
import { type DkimOutcome, verifyDkim } from '../dkim/verify.ts';
import { type DmarcOutcome, evaluateDmarc } from '../dmarc/evaluate.ts';
import { type DmarcDiscovery, discoverDmarc } from '../dmarc/record.ts';
import { type Authors, authorsOf } from '../message/authors.ts';
import { parseFields } from '../message/fields.ts';
import type { Lookup } from '../records/answers.ts';
import { evaluateHelo, evaluateSpf, type SpfOutcome } from '../spf/evaluate.ts';
import { POLICIES } from '../vocabulary.ts';

export interface Arrival {
  /** Null where nobody knows from which it will come. */
  clientAddress: string | null;
  helo: string;
  /** MAIL FROM; empty for the null sender. */
  sender: string;
  content: Buffer;
}

/** What SPF, DKIM and DMARC say of a message that arrived. */
export interface Judgement {
  helo: SpfOutcome & { domain: string };
  spf: SpfOutcome & { domain: string };
  dkim: DkimOutcome[];
  dmarc: DmarcOutcome;
  /** Whether From names its author so that every mail program shows the same (RFC 5322 §3.6.2). */
  isAuthorClear: boolean;
}

export interface JudgeSettings {
  /** Who judges, for SPF explanations. */
  receiver: string;
  /** Milliseconds since 1970. */
  now: number;
  /** From 0 up to 100, for policies that are meant for a share of the mail (RFC 7489 §6.6.4). */
  draw: number;
}

/** Judges a message by the sender's published records. */
export async function judge(arrival: Arrival, lookup: Lookup, { receiver, now, draw }: JudgeSettings): Promise<Judgement> {
  const { clientAddress, helo, sender, content } = arrival;
  const authors = authorsOf(parseFields(content));
  // The policies first, and all else beside them: nothing that a sender makes slow keeps us from knowing what its domain wants.
  const policies = authors.domains.map((domain) => discoverDmarc(domain, lookup));
  const heloDomain = helo.toLowerCase();
  // RFC 7208 §2.4: a null sender is judged as postmaster of the name that was said in HELO.
  const domain = sender === '' ? heloDomain : domainSide(sender).toLowerCase();
  const client = clientAddress === null ? null : { clientAddress, helo, receiver, at: Math.floor(now / 1000) };
  const [heloOutcome, sent, dkim] = await Promise.all([
    client ? evaluateHelo(client, lookup) : UNKNOWN_CLIENT,
    sender === '' ? null : client ? evaluateSpf({ ...client, sender, domain }, lookup) : UNKNOWN_CLIENT,
    verifyDkim(content, lookup, now),
  ]);
  const spf = sent ?? heloOutcome;
  return {
    helo: { ...heloOutcome, domain: heloDomain },
    spf: { ...spf, domain },
    dkim,
    dmarc: judgeAuthors(authors, await Promise.all(policies), { result: spf.result, domain }, dkim, draw),
    isAuthorClear: authors.isClear,
  };
}

/** No answer, as from name servers that are silent: it might have passed. */
const UNKNOWN_CLIENT: SpfOutcome = {
  result: 'temperror',
  term: null,
  reason: 'the client’s address is unknown',
  isVoid: false,
  lookups: 0,
  explanation: null,
  steps: [],
};

/** With several domains in From, the one that asks for most counts (RFC 7489 §6.6.1). */
function judgeAuthors(
  { domains, addresses }: Authors,
  policies: readonly DmarcDiscovery[],
  spf: { result: SpfOutcome['result']; domain: string },
  dkim: readonly DkimOutcome[],
  draw: number,
): DmarcOutcome {
  const outcomes = domains.map((domain, at) => evaluateDmarc(domain, policies[at] as DmarcDiscovery, spf, dkim, draw));
  const [first, ...others] = outcomes;
  if (first) return others.reduce((worst, one) => (weight(one) > weight(worst) ? one : worst), first);
  const [address] = addresses;
  const without = { domain: '', policy: 'none', disposition: 'none', isPolicyKnown: true } as const;
  return address === undefined
    ? { ...without, result: 'permerror', reason: 'From has no author' }
    : { ...without, result: 'none', reason: `${address.slice(0, 100)} has no domain that could publish a policy` };
}

const weight = (outcome: DmarcOutcome): number =>
  POLICIES.indexOf(outcome.disposition) * 10 + ['pass', 'none', 'permerror', 'temperror', 'fail'].indexOf(outcome.result);
