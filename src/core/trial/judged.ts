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

const checkOf = ({ domainHere }: TrialFacts): string => (domainHere === null ? '' : ` See the record: tenedor check ${domainHere}`);

function spfDraft({ spf }: Judgement, facts: TrialFacts): MessageDraft<'spf'> {
  const from = facts.client?.address ?? 'the address';
  const { domain, result, reason } = spf;
  switch (result) {
    case 'pass':
      return { code: 'spf-pass', headline: `${domain} allows ${from} to send.`, seen: [reason] };
    case 'none':
      return {
        code: 'spf-none',
        headline: `${domain} publishes no SPF record.`,
        remedy: `Publish one with every server that sends for ${domain}.${checkOf(facts)}`,
      };
    case 'fail':
      return {
        code: 'spf-fail',
        headline: `${domain} forbids ${from} to send.`,
        seen: [reason],
        remedy: `Add the address to the SPF record of ${domain}, or send through its listed servers.${checkOf(facts)}`,
      };
    case 'softfail':
      return {
        code: 'spf-softfail',
        headline: `${domain} discourages ${from} from sending (softfail).`,
        seen: [reason],
        remedy: `Add the address to the SPF record of ${domain}.${checkOf(facts)}`,
      };
    case 'neutral':
      return {
        code: 'spf-neutral',
        headline: `The SPF record of ${domain} makes no statement about ${from}.`,
        seen: [reason],
        remedy: `Add the address, and end the record in -all.${checkOf(facts)}`,
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
        headline: facts.client
          ? `The name servers of ${domain} gave no answer.`
          : 'It is sent through a smart host, so that host’s address counts.',
        seen: [reason],
        remedy: facts.client ? 'Score it again in some minutes.' : '',
      };
  }
}

const signer = ({ domain, selector }: DkimOutcome): string => `${domain} (selector ${selector})`;

function dkimDrafts(outcomes: readonly DkimOutcome[], facts: TrialFacts): MessageDraft<'dkim'>[] {
  if (outcomes.length === 0)
    return [
      {
        code: 'dkim-none',
        headline: 'The message is not signed.',
        remedy: facts.domainHere
          ? `Have ${facts.domainHere} sign: tenedor key list ${facts.domainHere}`
          : 'Enable signing on the sending server, with a key of the domain in From.',
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
      remedy: 'Score it again in some minutes.',
    });
  else if (passed.length === 0 && part.length === 0)
    drafts.push({
      code: 'dkim-broken',
      headline: outcomes.length === 1 ? 'Its signature does not verify.' : `None of its ${outcomes.length} signatures verifies.`,
      seen,
      remedy: `Compare the key in DNS with the one that signs; if they match, something changes the message in transit.${checkOf(facts)}`,
    });
  else if (broken.length > 0)
    drafts.push({
      code: 'dkim-one-broken',
      headline: 'One of its signatures does not verify.',
      seen,
      remedy: 'Fix it, or remove it.',
    });
  const short = passed.filter((one) => one.rsaBits !== null && one.rsaBits < USUAL_BITS);
  if (short.length > 0 && short.length === passed.length)
    drafts.push({
      code: 'dkim-weak-key',
      headline: `It is signed with a key of ${short[0]?.rsaBits} bits.`,
      seen: short.map(signer),
      remedy: 'Create a key of 2048 bits, publish it, and sign with it.',
    });
  if (part.length > 0 && passed.length === 0)
    drafts.push({
      code: 'dkim-part-only',
      headline: 'The signature covers only part of the text (l=), so it does not count.',
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
      remedy: 'Put one address into From (RFC 5322 §3.6.2).',
    });
  switch (dmarc.result) {
    case 'none':
      drafts.push({
        code: 'dmarc-none',
        headline: domain === '' ? 'From has no domain that could publish a policy.' : `${domain} publishes no DMARC record.`,
        seen: domain === '' ? [reason] : [],
        remedy: `Publish one. Start with p=none and an address for reports.${checkOf(facts)}`,
      });
      break;
    case 'fail':
      drafts.push({
        code: 'dmarc-fail',
        headline: `${domain} in From is not authenticated; its policy asks that such mail be ${policy === 'reject' ? 'refused' : policy === 'quarantine' ? 'filed as junk' : 'reported'}.`,
        seen: [reason],
        remedy: `Sign with a key of ${domain}, or send with an envelope of ${domain} from an address in its SPF record.${checkOf(facts)}`,
      });
      break;
    case 'permerror':
      drafts.push({
        code: 'dmarc-permerror',
        headline: domain === '' ? 'From has no author.' : `The DMARC record of ${domain} can’t be used.`,
        seen: [reason],
        remedy: `Mend it.${checkOf(facts)}`,
      });
      break;
    case 'temperror':
      drafts.push({
        code: 'dmarc-unanswered',
        headline: `It is unknown whether ${domain} is authenticated.`,
        seen: [reason],
        remedy: 'Score it again in some minutes.',
      });
      break;
    case 'pass':
      if (!reason.startsWith('aligned signature'))
        drafts.push({
          code: 'dmarc-spf-alone',
          headline: `${domain} in From is authenticated by SPF alone.`,
          seen: [reason, ...dkim.filter((one) => one.result === 'pass').map((one) => `signed by ${one.domain}, which is another domain`)],
          remedy: `Sign with a key of ${domain}.`,
        });
      if (policy === 'none')
        drafts.push({
          code: 'dmarc-watching',
          headline: `${domain} is authenticated; its policy only monitors (p=none).`,
          remedy: `When the reports are clean, move to quarantine, then reject.${checkOf(facts)}`,
        });
  }
  return drafts.length > 0 ? drafts : [{ code: 'dmarc-pass', headline: `${domain} in From is authenticated.`, seen: [reason] }];
}
