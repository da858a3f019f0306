import type { Lookup } from '../records/answers.ts';
import { composeSheet, type HostFacts, type SheetSubject } from '../records/sheet.ts';
import { checkDkim } from './dkim.ts';
import { checkDmarc } from './dmarc.ts';
import type { Finding } from './finding.ts';
import { checkMx, checkMxAway } from './mx.ts';
import { checkReverse } from './reverse.ts';
import { checkSpf } from './spf.ts';

export interface CheckFacts {
  domain: string;
  role: 'home' | 'away';
  host: HostFacts;
  key: { selector: string; publicKey: string };
}

/** Every finding of a domain, one a record, in the order of the work. */
export async function checkDomain({ domain, role, host, key }: CheckFacts, lookup: Lookup): Promise<Finding[]> {
  if (role === 'away') return [await checkMxAway(domain, host, lookup)];
  const sheet = composeSheet({ domain, host, keys: [key] });
  const record = (subject: SheetSubject) => {
    const found = sheet.find((one) => one.subject === subject);
    if (!found) throw new Error(`the sheet has no ${subject}`);
    return found;
  };
  return Promise.all([
    checkMx(domain, host, record('mx'), lookup),
    checkSpf(domain, host, record('spf'), lookup),
    checkDkim(domain, key, record('dkim'), lookup),
    checkDmarc(domain, record('dmarc'), lookup),
    checkReverse(host, lookup),
  ]);
}
