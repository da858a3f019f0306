import type { EventData } from '../../core/journal/events.ts';
import { authenticationResults, MOST_NAMED, withoutForgedResults } from '../../core/judgement/authentication-results.ts';
import { type Judgement, judge } from '../../core/judgement/judge.ts';
import type { Lookup } from '../../core/records/answers.ts';
import { REPLIES, type Reply } from '../../core/smtp/replies.ts';
import type { Judge } from '../../core/vocabulary.ts';
import { knownNetworkOf } from '../directory/networks.ts';
import type { ReceptionDeps } from './deps.ts';

/** RFC 7208 §4.6.4 asks for at least 20 seconds. */
const LONGEST_MS = 20_000;

export interface JudgedArrival {
  /** The message without forged results, and with our own in front. */
  field: string;
  content: Buffer;
  folder: 'Inbox' | 'Junk';
  /** Whether SPF says that the client may send for the envelope sender. */
  isVouched: boolean;
  /** Whether SPF, or the policy of the author's domain, says that it is forged: then nobody hears of what becomes of it (RFC 3834 §2). */
  isDisowned: boolean;
  /** Why it is not taken; null when it is. */
  refusal: Reply | null;
  /** For the journey. */
  data: EventData['judged'];
}

/**
 * Judges a message that came from outside, and decides by what the recipients' domains want. DMARC decides alone: SPF and DKIM
 * results are what it is made of (RFC 7489 §6.6). A DNS failure never refuses for good.
 */
export async function judgeArrival(
  context: ReceptionDeps,
  arrival: { clientAddress: string; helo: string; sender: string; content: Buffer },
  how: Judge,
): Promise<JudgedArrival> {
  const { host, clock, random } = context;
  const judgement = await judge(arrival, withinTime(context), { receiver: host.name, now: clock.now(), draw: random() * 100 });
  const { message, removed } = withoutForgedResults(arrival.content, host.name);
  const trusted = knownNetworkOf(context.db, arrival.clientAddress);
  const decision = trusted ? ({ folder: 'Inbox', refusal: null } as const) : decide(judgement, how);
  return {
    field: authenticationResults(host.name, judgement, arrival.sender),
    content: message,
    isVouched: judgement.spf.result === 'pass',
    isDisowned: isDisowned(judgement),
    ...decision,
    data: {
      judge: how,
      trusted: trusted?.cidr ?? null,
      folder: decision.refusal ? null : decision.folder,
      removed,
      helo: { result: judgement.helo.result, domain: judgement.helo.domain },
      spf: {
        result: judgement.spf.result,
        domain: judgement.spf.domain,
        reason: judgement.spf.reason,
        explanation: judgement.spf.explanation,
      },
      dkim: judgement.dkim.slice(0, MOST_NAMED).map(({ result, domain, selector, reason }) => ({ result, domain, selector, reason })),
      dmarc: judgement.dmarc,
      author: judgement.isAuthorClear,
    },
  };
}

/** With SPF pass the envelope sender is one that may be written to, whoever From names. */
const isDisowned = ({ spf, dmarc }: Judgement): boolean =>
  spf.result === 'fail' || spf.result === 'softfail' || (spf.result !== 'pass' && dmarc.result === 'fail');

function decide({ dmarc, spf, isAuthorClear }: Judgement, how: Judge): { folder: 'Inbox' | 'Junk'; refusal: Reply | null } {
  const take = (folder: 'Inbox' | 'Junk') => ({ folder, refusal: null });
  const refuse = (refusal: Reply) => ({ folder: 'Junk' as const, refusal });
  if (how === 'note') return take('Inbox');
  if (dmarc.result === 'fail' && dmarc.disposition === 'reject' && how === 'enforce')
    return refuse(REPLIES.dmarcRefused(dmarc.domain, dmarc.reason));
  // Programs would show it as by this one or by that one (RFC 7489 §6.6.1, RFC 5322 §3.6.2); asking again later would not change that.
  if (!isAuthorClear) return how === 'enforce' ? refuse(REPLIES.authorUnclear) : take('Junk');
  // It might have passed, or nobody knows what the domain wants: the sender is asked to come again, for no forger gains by silence
  // (RFC 7489 §6.6.3, RFC 7208 §2.6.6). Where failing would have made it junk, it may come to that at once.
  if (dmarc.result === 'temperror' && (!dmarc.isPolicyKnown || dmarc.policy === 'reject') && how === 'enforce')
    return refuse(
      dmarc.isPolicyKnown && spf.result === 'temperror' ? REPLIES.spfUnanswered(spf.domain) : REPLIES.judgeUnanswered(dmarc.domain),
    );
  if (dmarc.result === 'temperror' && (!dmarc.isPolicyKnown || dmarc.policy !== 'none')) return take('Junk');
  return dmarc.result === 'fail' && dmarc.disposition !== 'none' ? take('Junk') : take('Inbox');
}

/** Look-ups that come to an end: after the time there are no more answers, which gives temporary errors. */
function withinTime({ lookup, clock }: ReceptionDeps): Lookup {
  const end = clock.steady() + LONGEST_MS;
  return (name, type) => (clock.steady() < end ? lookup(name, type) : Promise.resolve({ kind: 'failed', reason: 'judging took too long' }));
}
