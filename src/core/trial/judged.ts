import type { DkimOutcome } from '../dkim/verify.ts';
import type { Judgement } from '../judgement/judge.ts';
import type { TrialFacts } from './facts.ts';
import { type MessageDraft, type MessageFinding, messageFindings } from './finding.ts';

/** RFC 8301 §3.2 */
const USUAL_BITS = 2048;

/** What SPF, DKIM and DMARC say, as a strict receiver takes it. */
export function judgedFindings(judgement: Judgement, facts: TrialFacts): MessageFinding[] {
  return [
    ...messageFindings('spf', [spfDraft(judgement, facts)]),
    ...messageFindings('dkim', dkimDrafts(judgement.dkim, facts)),
    ...messageFindings('dmarc', dmarcDrafts(judgement, facts)),
  ];
}

const checkOf = ({ domainHere }: TrialFacts): string => (domainHere === null ? '' : ` The record to type: tenedor check ${domainHere}`);

function spfDraft({ spf }: Judgement, facts: TrialFacts): MessageDraft<'spf'> {
  const from = facts.client?.address ?? 'the address';
  const { domain, result, reason } = spf;
  switch (result) {
    case 'pass':
      return { code: 'spf-pass', headline: `${domain} lets ${from} send for it.`, seen: [reason] };
    case 'none':
      return {
        code: 'spf-none',
        headline: `${domain} publishes no SPF record.`,
        remedy: `Publish one that names every server which sends for ${domain}.${checkOf(facts)}`,
      };
    case 'fail':
      return {
        code: 'spf-fail',
        headline: `${domain} says that ${from} must not send for it.`,
        seen: [reason],
        remedy: `Add the address to the SPF record of ${domain}, or send by the servers that it names.${checkOf(facts)}`,
      };
    case 'softfail':
      return {
        code: 'spf-softfail',
        headline: `${domain} says that ${from} should not send for it (softfail).`,
        seen: [reason],
        remedy: `Add the address to the SPF record of ${domain}.${checkOf(facts)}`,
      };
    case 'neutral':
      return {
        code: 'spf-neutral',
        headline: `The SPF record of ${domain} does not say whether ${from} may send.`,
        seen: [reason],
        remedy: `Name the address in it, and end it in -all.${checkOf(facts)}`,
      };
    case 'permerror':
      return {
        code: 'spf-permerror',
        headline: `The SPF record of ${domain} can’t be used.`,
        seen: [reason],
        remedy: `Mend the record.${checkOf(facts)}`,
      };
    case 'temperror':
      return {
        code: 'spf-unanswered',
        headline: facts.client ? `The name servers of ${domain} gave no answer.` : 'A smart host carries it, so its address is seen there.',
        seen: [reason],
        remedy: facts.client ? 'Look again in some minutes.' : '',
      };
  }
}

const signer = ({ domain, selector }: DkimOutcome): string => `${domain} (selector ${selector})`;

function dkimDrafts(outcomes: readonly DkimOutcome[], facts: TrialFacts): MessageDraft<'dkim'>[] {
  if (outcomes.length === 0)
    return [
      {
        code: 'dkim-none',
        headline: 'The message bears no signature.',
        remedy: facts.domainHere
          ? `Have ${facts.domainHere} sign: tenedor key list ${facts.domainHere}`
          : 'Turn signing on at the server that sends it, with a key of the domain in From.',
      },
    ];
  const passed = outcomes.filter((one) => one.result === 'pass');
  const open = outcomes.filter((one) => one.result === 'temperror');
  const part = outcomes.filter((one) => one.isPartOnly);
  const broken = outcomes.filter((one) => one.result !== 'pass' && one.result !== 'temperror' && !one.isPartOnly);
  const seen = broken.map((one) => `${signer(one)}: ${one.reason}`);
  const drafts: MessageDraft<'dkim'>[] = [];
  if (passed.length === 0 && open.length > 0)
    drafts.push({
      code: 'dkim-unanswered',
      headline: 'The name servers gave no answer for the key.',
      seen: open.map((one) => `${signer(one)}: ${one.reason}`),
      remedy: 'Look again in some minutes.',
    });
  else if (passed.length === 0 && part.length === 0)
    drafts.push({
      code: 'dkim-broken',
      headline: outcomes.length === 1 ? 'Its signature does not verify.' : `None of its ${outcomes.length} signatures verifies.`,
      seen,
      remedy: `Compare the key in DNS with the one that signs; if they agree, something changes the message on its way.${checkOf(facts)}`,
    });
  else if (broken.length > 0)
    drafts.push({
      code: 'dkim-one-broken',
      headline: 'One of its signatures does not verify.',
      seen,
      remedy: 'Mend it, or sign without it.',
    });
  const short = passed.filter((one) => one.rsaBits !== null && one.rsaBits < USUAL_BITS);
  if (short.length > 0 && short.length === passed.length)
    drafts.push({
      code: 'dkim-weak-key',
      headline: `It is signed with a key of ${short[0]?.rsaBits} bits.`,
      seen: short.map(signer),
      remedy: 'Make a key of 2048 bits, publish it, and sign with that.',
    });
  if (part.length > 0 && passed.length === 0)
    drafts.push({
      code: 'dkim-part-only',
      headline: 'The signature covers the beginning of the text only (l=), so it counts for nothing.',
      seen: part.map(signer),
      remedy: 'Sign without l=.',
    });
  if (drafts.length > 0) return drafts;
  return [
    { code: 'dkim-pass', headline: `Signed by ${[...new Set(passed.map((one) => one.domain))].join(' and ')}.`, seen: passed.map(signer) },
  ];
}

function dmarcDrafts({ dmarc, dkim, isAuthorClear }: Judgement, facts: TrialFacts): MessageDraft<'dmarc'>[] {
  const drafts: MessageDraft<'dmarc'>[] = [];
  const { domain, reason, policy } = dmarc;
  if (!isAuthorClear)
    drafts.push({
      code: 'dmarc-author',
      headline: 'From can be read as several authors.',
      remedy: 'Put one address into From, as RFC 5322 §3.6.2 has it.',
    });
  switch (dmarc.result) {
    case 'none':
      drafts.push({
        code: 'dmarc-none',
        headline: domain === '' ? 'From has no domain that could publish a policy.' : `${domain} publishes no DMARC record.`,
        seen: domain === '' ? [reason] : [],
        remedy: `Publish one; p=none with an address for reports is a good beginning.${checkOf(facts)}`,
      });
      break;
    case 'fail':
      drafts.push({
        code: 'dmarc-fail',
        headline: `${domain} in From is not proven; it asks that such mail be ${policy === 'reject' ? 'refused' : policy === 'quarantine' ? 'put aside as junk' : 'reported'}.`,
        seen: [reason],
        remedy: `Sign with a key of ${domain}, or send with an envelope of ${domain} from an address in its SPF record.${checkOf(facts)}`,
      });
      break;
    case 'permerror':
      drafts.push({
        code: 'dmarc-permerror',
        headline: domain === '' ? 'From names no author.' : `The DMARC record of ${domain} can’t be used.`,
        seen: [reason],
        remedy: `Mend it.${checkOf(facts)}`,
      });
      break;
    case 'temperror':
      drafts.push({
        code: 'dmarc-unanswered',
        headline: `Whether ${domain} is proven can’t be told.`,
        seen: [reason],
        remedy: 'Look again in some minutes.',
      });
      break;
    case 'pass':
      if (!reason.startsWith('aligned signature'))
        drafts.push({
          code: 'dmarc-spf-alone',
          headline: `${domain} in From is proven by SPF alone.`,
          seen: [reason, ...dkim.filter((one) => one.result === 'pass').map((one) => `signed by ${one.domain}, which is another domain`)],
          remedy: `Sign with a key of ${domain}.`,
        });
      if (policy === 'none')
        drafts.push({
          code: 'dmarc-watching',
          headline: `${domain} is proven, and asks for nothing when it is not (p=none).`,
          remedy: `When the reports are clean, ask for quarantine, then for reject.${checkOf(facts)}`,
        });
  }
  return drafts.length > 0 ? drafts : [{ code: 'dmarc-pass', headline: `${domain} in From is proven.`, seen: [reason] }];
}
