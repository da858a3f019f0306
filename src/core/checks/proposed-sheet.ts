import { type Lookup, lookUp } from '../records/answers.ts';
import { apexOf, inZone } from '../records/apex.ts';
import { composeSheet, dmarcRecord, domainRecord, type SheetFacts, type SheetRecord } from '../records/sheet.ts';
import { reasonWords } from '../spf/change-words.ts';
import { spfCosts } from '../spf/costs.ts';
import { leadingHost, proposeSpf } from '../spf/merge.ts';
import { isSpf } from '../spf/record.ts';
import { MOST_LOOKUPS } from '../spf/run.ts';
import { checkDmarc } from './dmarc.ts';
import { checkSpf } from './spf.ts';
import { MOST_TERMS } from './spf-record.ts';

export interface ProposedSheet {
  records: SheetRecord[];
  /** What to know about single records: what was kept, what was left out, how many look-ups it costs. */
  notes: string[];
}

/** The sheet, composed with what the domain publishes: there is one SPF record and one policy, and the customer's own parts stay in them. */
export async function proposeSheet(facts: SheetFacts, lookup: Lookup, sibling: string): Promise<ProposedSheet> {
  const { domain, stage, role = 'home', sends = role === 'home' } = facts;
  const host = sends ? facts.host : null;
  const notes: string[] = [];
  const replaced = new Map<SheetRecord['subject'], SheetRecord>();
  const published = await lookUp(lookup, domain, 'TXT');
  const records = published.kind === 'found' ? published.values.filter(isSpf) : [];
  const [spf] = await checkSpf({ domain, host, sibling }, lookup);
  // Where nothing is to be typed for it, it stays as it is: it is good, or the fault is not in it.
  if ((spf?.verdict === 'good' || spf?.code === 'spf-host-unresolved') && records[0] !== undefined) {
    replaced.set('spf', domainRecord(domain, 'spf', 'TXT', domain, records[0]));
    if (spf.verdict !== 'good') notes.push(`SPF: ${spf.headline}`);
    notes.push(`SPF stays as it is published; it costs ${(await spfCosts(records[0], domain, lookup)).total} of 10 look-ups.`);
  } else if (records.some((text) => text.split(' ').length > MOST_TERMS)) {
    notes.push(`SPF has more than ${MOST_TERMS} terms and is left unchanged; shorten it.`);
    if (records[0] !== undefined) replaced.set('spf', domainRecord(domain, 'spf', 'TXT', domain, records[0]));
  } else if (host === null) {
    notes.push(
      `No mail is sent as ${domain} from here, so SPF and DKIM concern its other servers. To allow a network to send: tenedor network`,
    );
  } else if (published.kind !== 'failed') {
    const { value, lookups, isTooDear, changes } = await proposeSpf(domain, records, leadingHost(host), lookup);
    if (isTooDear) {
      notes.push(
        `SPF cannot be reduced to ${MOST_LOOKUPS} look-ups, at most two of them void, without removing a sender; it is left unchanged. Ask the customer which senders are no longer used.`,
      );
      replaced.set('spf', domainRecord(domain, 'spf', 'TXT', domain, records[0] ?? value));
    } else replaced.set('spf', domainRecord(domain, 'spf', 'TXT', domain, value));
    if (records.length > 0 && !isTooDear)
      notes.push(`SPF is one record, merged from the published one and what we need; it costs ${lookups} of 10 look-ups.`);
    if (!isTooDear) for (const one of changes) notes.push(`SPF leaves out or changes “${one.term}”: ${reasonWords(one)}.`);
  } else notes.push('The published SPF record is currently unknown; check before you add a second one.');
  const [dmarc] = await checkDmarc({ domain, stage, next: null, signingDomain: domain, envelopeDomain: domain, sibling }, lookup);
  const isInherited = dmarc?.code === 'dmarc-inherited';
  if (isInherited) notes.push(`${dmarc.headline} Its own record would replace it.`);
  const policy = dmarc?.publish[0]?.value ?? (dmarc?.verdict === 'good' ? dmarc.expected[0] : undefined);
  if (policy !== undefined && !isInherited) replaced.set('dmarc', dmarcRecord(domain, policy));
  const sheet = composeSheet(facts).filter((record) => !(isInherited && record.subject === 'dmarc'));
  if (role === 'standby') notes.push(`MX: the domain’s own server first, then ${facts.host.name} with a higher number.`);
  if (role === 'away') notes.push('MX: the records of the server with the mailboxes.');
  const apex = await apexOf(domain, lookup);
  return {
    records: inZone(
      sheet.map((record) => replaced.get(record.subject) ?? record),
      apex,
    ),
    notes,
  };
}
