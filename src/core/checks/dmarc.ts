import { domainSide } from '../address/sides.ts';
import { isAligned } from '../dmarc/aligned.ts';
import { mendedDmarc } from '../dmarc/mended.ts';
import { type DmarcFault, type DmarcRecord, discoverDmarc, isDmarc, organisationalDomain, parseDmarc } from '../dmarc/record.ts';
import { type NextStage, withTags } from '../dmarc/stages.ts';
import { type Lookup, lookUp } from '../records/answers.ts';
import { dmarcRecord, dmarcText } from '../records/sheet.ts';
import { POLICIES, type Policy } from '../vocabulary.ts';
import { type Finding, type FindingDraft, type SubjectFacts, settledFindings, unanswered } from './finding.ts';
import { isWildcard } from './wildcard.ts';

export interface DmarcFacts {
  domain: string;
  stage: Policy;
  /** The stage that comes next, as far as is known from earlier checks. */
  next: NextStage | null;
  /** The domains that this server signs and sends for it with. */
  signingDomain: string;
  envelopeDomain: string;
  /** A label that nobody has. */
  sibling: string;
}

/** Is there one valid DMARC policy where receivers look for it, and does our mail meet it? */
export async function checkDmarc(facts: DmarcFacts, lookup: Lookup): Promise<Finding[]> {
  const { domain, stage } = facts;
  const name = `_dmarc.${domain}`;
  const wanted = dmarcText(domain, stage);
  const answer = await lookUp(lookup, name, 'TXT');
  const texts =
    answer.kind === 'found' && (answer.values.some(isDmarc) || !(await isWildcard(name, 'TXT', answer, facts.sibling, lookup)))
      ? answer.values
      : [];
  const published = texts.filter(isDmarc);
  const subject: SubjectFacts = { subject: 'dmarc', name, expected: [wanted], seen: texts };
  if (answer.kind === 'failed') return unanswered(subject, answer.reason);
  const [text = ''] = published;
  const parsed = parseDmarc(text);
  const policy = parsed.kind === 'ok' ? parsed.record.policy : 'none';
  const good: FindingDraft =
    policy === 'none'
      ? { code: 'dmarc-watching', verdict: 'good', headline: 'A policy is published; it only monitors (p=none).', expected: published }
      : { code: 'dmarc-good', verdict: 'good', headline: `A policy is published: ${policy} forged mail.`, expected: published };
  if (texts.length === 0) {
    const inherited = await inheritedPolicy(facts, lookup);
    if (inherited?.kind === 'failed') return unanswered(subject, inherited.reason);
    if (inherited?.kind === 'found') return settledFindings({ ...subject, seen: [inherited.seen] }, inherited.faults, inherited.good);
  }
  if (published.length !== 1 || parsed.kind === 'invalid') {
    const value = published.length === 0 ? wanted : mendedDmarc(published, stage, `postmaster@${domain}`);
    return settledFindings(
      { ...subject, expected: [value] },
      [{ ...(await whyUnusable(domain, texts, facts.sibling, lookup)), publish: [dmarcRecord(domain, value)] }],
      good,
    );
  }
  const [fault] = parsed.faults;
  if (fault) {
    // Receivers that pass over the broken part follow the rest: what is proposed must not be weaker than that.
    const stronger = POLICIES.indexOf(parsed.record.policy) < POLICIES.indexOf(stage);
    const value = stronger ? withTags(parsed.clean, { p: stage }) : parsed.clean;
    return settledFindings({ ...subject, expected: [value] }, [{ ...broken(text, fault), publish: [dmarcRecord(domain, value)] }], good);
  }
  const found = await weaknesses(facts, parsed.record, lookup);
  if (found.silent !== null) return unanswered(subject, found.silent);
  if (found.faults.length === 0) return settledFindings(subject, [], good);
  // One record mends all of them: what is published, with the tags that must change.
  const value = withTags(text, found.tags);
  return settledFindings(
    { ...subject, expected: [value] },
    found.faults.map((fault) => ({ ...fault, publish: [dmarcRecord(domain, value)] })),
    good,
  );
}

type Inherited = { kind: 'failed'; reason: string } | { kind: 'found'; seen: string; faults: FindingDraft[]; good: FindingDraft };

/** What holds for a name below another domain of its owner that has a policy (RFC 7489 §6.6.3); a record of its own would replace it. */
async function inheritedPolicy({ domain, stage }: DmarcFacts, lookup: Lookup): Promise<Inherited | null> {
  const owner = organisationalDomain(domain);
  if (owner === domain) return null;
  const found = await discoverDmarc(owner, lookup);
  if (found.kind === 'failed') return found;
  if (found.kind !== 'found') return null;
  const policy = found.record.subdomainPolicy;
  const seen = `at ${found.at}: p=${policy} for names below it`;
  const isBehind = POLICIES.indexOf(policy) < POLICIES.indexOf(stage);
  const behind: FindingDraft = {
    code: 'dmarc-behind',
    verdict: 'weak',
    headline: `The stage ${stage} was chosen for this domain, but it has the policy ${policy} of ${owner}.`,
    remedy: 'Publish the record below.',
    publish: [dmarcRecord(domain, dmarcText(domain, stage))],
  };
  return {
    kind: 'found',
    seen,
    faults: isBehind ? [behind] : [],
    good: {
      code: 'dmarc-inherited',
      verdict: 'good',
      headline: `The policy of ${owner} applies here too: ${policy === 'none' ? 'it only monitors (p=none)' : `${policy} forged mail`}.`,
      expected: [seen],
    },
  };
}

const broken = (text: string, { reason, position }: DmarcFault): FindingDraft => ({
  code: 'dmarc-syntax',
  verdict: 'wrong',
  headline: `The policy is broken at character ${position + 1}: ${reason}.`,
  seen: [text, `${' '.repeat(position)}^`],
  remedy: 'Replace it with the record below.',
});

/** No policy, several, or one that can't be read. */
async function whyUnusable(domain: string, texts: readonly string[], sibling: string, lookup: Lookup): Promise<FindingDraft> {
  const published = texts.filter(isDmarc);
  if (published.length > 1)
    return {
      code: 'dmarc-several',
      verdict: 'wrong',
      headline: `${published.length} policies are published; receivers then use none (RFC 7489 §6.6.3).`,
      remedy: 'Remove them all, and publish the one below.',
    };
  const [text] = published;
  const parsed = text === undefined ? null : parseDmarc(text);
  if (text !== undefined && parsed?.kind === 'invalid') return broken(text, parsed);
  if (texts.length > 0)
    return {
      code: 'dmarc-not-read',
      verdict: 'wrong',
      headline: `No text at this name is a policy: “${texts[0]?.slice(0, 60)}”.`,
      remedy: `A policy begins with “v=DMARC1;”, in capitals and without quotes. Replace ${texts.length === 1 ? 'it' : 'them'} by the record below.`,
    };
  const doubled = `_dmarc.${domain}.${domain}`;
  for (const [place, code, headline, remedy] of [
    [
      doubled,
      'dmarc-doubled',
      `The policy is published under a doubled name, ${doubled}.`,
      'The DNS form appends the zone: enter the short name below. Then remove the misplaced record.',
    ],
    [
      domain,
      'dmarc-at-root',
      `The policy is published at the domain itself, ${domain}.`,
      'Publish it under the name “_dmarc”, and remove the misplaced one.',
    ],
  ] as const) {
    const elsewhere = await lookUp(lookup, place, 'TXT');
    const misplaced = elsewhere.kind === 'found' ? elsewhere.values.filter(isDmarc) : [];
    if (misplaced.length > 0 && !(await isWildcard(place, 'TXT', elsewhere, sibling, lookup)))
      return { code, verdict: 'wrong', headline, seen: misplaced.map((one) => `at ${place}: ${one}`), remedy };
  }
  return { code: 'dmarc-none', verdict: 'missing', headline: 'No DMARC policy is published.', remedy: 'Publish the TXT record below.' };
}

/** What could be better about a valid policy, and the tags that mend it. */
async function weaknesses(
  facts: DmarcFacts,
  record: DmarcRecord,
  lookup: Lookup,
): Promise<{ faults: FindingDraft[]; tags: Record<string, string | null>; silent: string | null }> {
  const { domain, stage, signingDomain, envelopeDomain, next } = facts;
  const faults: FindingDraft[] = [];
  const tags: Record<string, string | null> = {};
  const dkimFits = isAligned(signingDomain, domain, record.strictDkim);
  const spfFits = isAligned(envelopeDomain, domain, record.strictSpf);
  if (!dkimFits || !spfFits) {
    const wrongOnes = [
      ...(dkimFits ? [] : [`signs for ${signingDomain}`]),
      ...(spfFits ? [] : [`sends with an envelope of ${envelopeDomain}`]),
    ];
    const relaxed = isAligned(signingDomain, domain, false) && isAligned(envelopeDomain, domain, false);
    faults.push({
      code: 'dmarc-not-aligned',
      verdict: dkimFits || spfFits ? 'weak' : 'wrong',
      headline: `This server ${wrongOnes.join(' and ')}, which is not aligned with ${domain}.`,
      remedy: relaxed ? 'Remove strict alignment (adkim=s, aspf=s), as below.' : `Sign and send mail of ${domain} in its own name.`,
    });
    if (relaxed) Object.assign(tags, { adkim: null, aspf: null });
  }
  if (POLICIES.indexOf(record.subdomainPolicy) < POLICIES.indexOf(record.policy)) {
    faults.push({
      code: 'dmarc-subdomains-weaker',
      verdict: 'weak',
      headline: `Subdomains have the weaker policy ${record.subdomainPolicy} (sp=), the domain itself ${record.policy}.`,
      remedy: 'Remove sp=, as below, unless a subdomain still sends mail that would fail.',
    });
    tags['sp'] = null;
  }
  const foreign = await strangers(domain, record.reportsTo, lookup);
  if (foreign.silent !== null) return { faults, tags, silent: foreign.silent };
  if (foreign.addresses.length > 0) {
    const left = record.reportsTo.filter((address) => !foreign.addresses.includes(address));
    const targets = new Set(foreign.addresses.map((address) => domainSide(address)));
    faults.push({
      code: 'dmarc-reports-not-agreed',
      verdict: 'weak',
      headline: `Reports are requested for ${foreign.addresses.join(', ')}, but ${[...targets].join(' and ')} ${targets.size === 1 ? 'has' : 'have'} not agreed to receive them.`,
      remedy: `Have them publish the TXT record “v=DMARC1” at ${[...targets].map((target) => `${domain}._report._dmarc.${target}`).join(' and ')}; or remove them, as below.`,
    });
    tags['rua'] = (left.length > 0 ? left : [`postmaster@${domain}`]).map((address) => `mailto:${address}`).join(',');
  }
  if (POLICIES.indexOf(record.policy) < POLICIES.indexOf(stage)) {
    faults.push({
      code: 'dmarc-behind',
      verdict: 'weak',
      headline: `The stage ${stage} was chosen for this domain, but ${record.policy} is published.`,
      remedy: 'Replace the record with the one below.',
    });
    tags['p'] = stage;
  } else if (record.policy === 'none' && next?.due === true) {
    faults.push({
      code: 'dmarc-watching-long',
      verdict: 'weak',
      headline: `The policy still only monitors (p=none), although ${next.reason}.`,
      remedy: `Advance to the next stage, ${next.stage}, with the record below.`,
    });
    tags['p'] = next.stage;
  }
  if (record.percent < 100 && record.policy !== 'none') {
    faults.push({
      code: 'dmarc-partly',
      verdict: 'weak',
      headline: `The policy applies to only ${record.percent} % of forged messages (pct=${record.percent}).`,
      remedy: 'Remove pct=, as below, when the reports show no failures of the domain’s own mail.',
    });
    tags['pct'] = null;
  }
  if (record.policy === 'none' && record.reportsTo.length === 0) {
    faults.push({
      code: 'dmarc-no-reports',
      verdict: 'weak',
      headline: 'The policy only monitors (p=none), and no reports are requested.',
      remedy: 'Request reports with rua=, as below.',
    });
    tags['rua'] = `mailto:postmaster@${domain}`;
  }
  return { faults, tags, silent: null };
}

/** Report addresses of other organisations that have not agreed (RFC 7489 §7.1). */
async function strangers(
  domain: string,
  addresses: readonly string[],
  lookup: Lookup,
): Promise<{ addresses: string[]; silent: string | null }> {
  const found: string[] = [];
  for (const address of addresses) {
    const target = domainSide(address).toLowerCase();
    if (organisationalDomain(target) === organisationalDomain(domain)) continue;
    const answer = await lookUp(lookup, `${domain}._report._dmarc.${target}`, 'TXT');
    if (answer.kind === 'failed') return { addresses: found, silent: answer.reason };
    if (answer.kind === 'none' || !answer.values.some((value) => /^v[ \t]*=[ \t]*DMARC1/.test(value))) found.push(address);
  }
  return { addresses: found, silent: null };
}
