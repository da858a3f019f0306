import { domainSide } from '../../core/address/sides.ts';
import { authorsOf } from '../../core/message/authors.ts';
import { parseFields } from '../../core/message/fields.ts';
import { wholeContent } from '../../core/message/mail-content.ts';
import { withoutFirstFields } from '../../core/message/trace.ts';
import type { Lookup } from '../../core/records/answers.ts';
import type { TrialFacts } from '../../core/trial/facts.ts';
import type { MessageScore } from '../../core/trial/finding.ts';
import type { MessageReading } from '../../core/trial/reading.ts';
import { scoreMessage } from '../../core/trial/score.ts';
import { findDomainFacts } from '../../store/domains.ts';
import * as store from '../../store/trials.ts';
import { chooseOutlet } from '../delivery/choose-hosts.ts';
import { outgoingText } from '../delivery/outgoing-text.ts';
import type { TrialDeps } from './deps.ts';

/** A message that leaves, or would. */
export interface LeavingMessage {
  file: string;
  size: number;
  /** Who signs it. */
  signsFor: string | null;
  sender: string;
  /** When it was accepted, in ms. */
  at: number;
}

/** Scores a message that has come to a trial, and keeps the score; false where it is gone. */
export async function scoreTrial(context: TrialDeps, id: number, lookup: Lookup): Promise<boolean> {
  const { db, texts, clock, host, desk } = context;
  const trial = store.findTrial(db, id);
  if (!trial?.arrival || trial.file === null || trial.size === null || trial.arrivedAt === null) return false;
  const { arrival, file, size, arrivedAt: at } = trial;
  const sender = trial.sender ?? '';
  let score: MessageScore;
  const reading = await desk.read({ file, size }, at);
  if (!reading) return false;
  if (arrival.isLeaving) score = await scoreLeaving(context, { file, size, signsFor: arrival.signsFor, sender, at }, reading, lookup);
  else {
    const content = withoutFirstFields(await texts.read(file, size), ['delivered-to', 'received', 'authentication-results']);
    const { client, greeting, tls } = arrival;
    const facts = { client: { address: client, greeting }, sender, tls, at, domainHere: domainHere(context, content) };
    score = await scoreMessage(content, reading, facts, { blockLists: listsOf(context), receiver: host.name }, lookup);
  }
  return db.commit(() => store.addScore(db, id, clock.now(), score));
}

/** Scores a message as others get it: signed, and from the address from which this host sends. */
export async function scoreLeaving(
  context: TrialDeps,
  leaving: LeavingMessage,
  reading: MessageReading,
  lookup: Lookup,
): Promise<MessageScore> {
  const { host } = context;
  const content = await wholeContent((await outgoingText(context, leaving)).content);
  const facts: TrialFacts = {
    client: clientSeen(context, leaving.sender),
    sender: leaving.sender,
    tls: null,
    at: leaving.at,
    domainHere: domainHere(context, content),
  };
  return scoreMessage(content, reading, facts, { blockLists: listsOf(context), receiver: host.name }, lookup);
}

/** How this host looks to others; null where a smart host stands between. */
function clientSeen(context: TrialDeps, sender: string): TrialFacts['client'] {
  const { host } = context;
  const senderDomain = sender === '' ? null : domainSide(sender);
  const choice = chooseOutlet(context, { senderDomain, destination: host.name }, null);
  if (choice.kind === 'outlet' && choice.outlet.kind !== 'direct') return null;
  const own = choice.kind === 'outlet' ? (choice.outlet.sourceIpv4 ?? choice.outlet.sourceIpv6) : null;
  const address = own ?? host.addresses.find((one) => !one.includes(':')) ?? host.addresses[0];
  return address === undefined ? null : { address, greeting: host.name };
}

const listsOf = ({ host }: TrialDeps): string[] => [...new Set([...host.blockLists, ...host.refuseListed])];

/** The domain of the author, where it is here. */
function domainHere({ db }: TrialDeps, content: Buffer): string | null {
  const [domain] = authorsOf(parseFields(content)).domains;
  return domain !== undefined && findDomainFacts(db, domain) ? domain : null;
}

/** By the zones’ own servers where they answer; block lists are asked as they always are. */
export function lookupToday(context: TrialDeps): Lookup {
  const { dns, lookup } = context;
  const { source } = dns.openViews();
  const lists = listsOf(context);
  return async (name, type) => {
    if (lists.some((list) => name.endsWith(`.${list}`))) return lookup(name, type);
    const answer = await source(name, type);
    return answer.kind === 'failed' ? lookup(name, type) : answer;
  };
}
