import { type DkimOutcome, verifyDkim } from '../dkim/verify.ts';
import { type DmarcOutcome, evaluateDmarc } from '../dmarc/evaluate.ts';
import { POLICIES } from '../dmarc/record.ts';
import { addressesIn } from '../message/address-list.ts';
import { fieldsNamed, parseFields } from '../message/fields.ts';
import type { Lookup } from '../records/answers.ts';
import { evaluateHelo, evaluateSpf, type SpfOutcome } from '../spf/evaluate.ts';

export interface Arrival {
  clientAddress: string;
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
}

export interface JudgeSettings {
  /** Who judges, for SPF explanations. */
  receiver: string;
  /** Milliseconds since 1970. */
  now: number;
  /** From 0 up to 100, for policies that are meant for a share of the mail (RFC 7489 §6.6.4). */
  draw: number;
}

/** More domains than these in From are not asked for. */
const MOST_AUTHORS = 8;

/** Judges a message by the sender's published records. */
export async function judge(arrival: Arrival, lookup: Lookup, { receiver, now, draw }: JudgeSettings): Promise<Judgement> {
  const { clientAddress, helo, sender, content } = arrival;
  const client = { clientAddress, helo, receiver, at: Math.floor(now / 1000) };
  const heloDomain = helo.toLowerCase();
  // RFC 7208 §2.4: a null sender is judged as postmaster of the name that was said in HELO.
  const domain = sender === '' ? heloDomain : sender.slice(sender.lastIndexOf('@') + 1).toLowerCase();
  const heloOutcome = await evaluateHelo(client, lookup);
  const spf = sender === '' ? heloOutcome : await evaluateSpf({ ...client, sender, domain }, lookup);
  const dkim = await verifyDkim(content, lookup, now);
  return {
    helo: { ...heloOutcome, domain: heloDomain },
    spf: { ...spf, domain },
    dkim,
    dmarc: await judgeAuthors(content, { result: spf.result, domain }, dkim, lookup, draw),
  };
}

/** With several domains in From, the one that asks for most counts (RFC 7489 §6.6.1); none at all is broken. */
async function judgeAuthors(
  content: Buffer,
  spf: { result: SpfOutcome['result']; domain: string },
  dkim: readonly DkimOutcome[],
  lookup: Lookup,
  draw: number,
): Promise<DmarcOutcome> {
  const authors = fieldsNamed(parseFields(content), 'From').flatMap((field) => addressesIn(field.value) ?? []);
  const domains = new Set(authors.map((address) => address.slice(address.lastIndexOf('@') + 1).toLowerCase()));
  let worst: DmarcOutcome | null = null;
  for (const domain of [...domains].slice(0, MOST_AUTHORS)) {
    const outcome = await evaluateDmarc(domain, spf, dkim, lookup, draw);
    if (worst === null || weight(outcome) > weight(worst)) worst = outcome;
  }
  return worst ?? { result: 'permerror', domain: '', policy: 'none', disposition: 'none', reason: 'From names no author' };
}

const weight = (outcome: DmarcOutcome): number =>
  POLICIES.indexOf(outcome.disposition) * 10 + ['pass', 'none', 'permerror', 'temperror', 'fail'].indexOf(outcome.result);
