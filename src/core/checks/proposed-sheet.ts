import type { Lookup } from '../records/answers.ts';
import { composeSheet, dmarcRecord, domainRecord, type SheetFacts, type SheetRecord } from '../records/sheet.ts';
import { spfCosts } from '../spf/costs.ts';
import { proposeSpf } from '../spf/merge.ts';
import { isSpf } from '../spf/record.ts';
import { checkDmarc } from './dmarc.ts';
import { checkSpf, MOST_TERMS } from './spf.ts';

export interface ProposedSheet {
  records: SheetRecord[];
  /** What to know about single records: what was kept, what was left out, how many look-ups it costs. */
  notes: string[];
}

/** The sheet, composed with what the domain publishes: there is one SPF record and one policy, and the customer's own parts stay in them. */
export async function proposeSheet(facts: SheetFacts, lookup: Lookup): Promise<ProposedSheet> {
  const { domain, host, stage } = facts;
  const notes: string[] = [];
  const replaced = new Map<SheetRecord['subject'], SheetRecord>();
  const published = await lookup(domain, 'TXT');
  const records = published.kind === 'found' ? published.values.filter(isSpf) : [];
  const [spf] = await checkSpf(domain, host, lookup);
  if (spf?.verdict === 'good' && records[0] !== undefined) {
    replaced.set('spf', domainRecord(domain, 'spf', 'TXT', domain, records[0]));
    notes.push(`SPF stays as it is published; it costs ${(await spfCosts(records[0], domain, lookup)).total} of 10 look-ups.`);
  } else if (records.some((text) => text.split(' ').length > MOST_TERMS)) {
    notes.push(`SPF has more than ${MOST_TERMS} terms and is left as it is; have it made shorter.`);
    if (records[0] !== undefined) replaced.set('spf', domainRecord(domain, 'spf', 'TXT', domain, records[0]));
  } else if (published.kind !== 'failed') {
    const { name, addresses, outletIncludes = [] } = host;
    const { value, lookups, changes } = await proposeSpf(domain, records, { name, addresses, outletIncludes }, lookup);
    replaced.set('spf', domainRecord(domain, 'spf', 'TXT', domain, value));
    if (records.length > 0)
      notes.push(`SPF is one record, made from what is published and what we need; it costs ${lookups} of 10 look-ups.`);
    for (const { term, why } of changes) notes.push(`SPF leaves out or changes “${term}”: ${why}.`);
  } else notes.push('What SPF record is published is not known just now; look before you add a second one.');
  const [dmarc] = await checkDmarc({ domain, stage, next: null, signingDomain: domain, envelopeDomain: domain }, lookup);
  const isInherited = dmarc?.code === 'dmarc-inherited';
  if (isInherited) notes.push(`${dmarc.headline} A record of its own would replace it.`);
  const policy = dmarc?.publish[0]?.value ?? (dmarc?.verdict === 'good' ? dmarc.expected[0] : undefined);
  if (policy !== undefined && !isInherited) replaced.set('dmarc', dmarcRecord(domain, policy));
  const sheet = composeSheet(facts).filter((record) => !(isInherited && record.subject === 'dmarc'));
  return { records: sheet.map((record) => replaced.get(record.subject) ?? record), notes };
}
