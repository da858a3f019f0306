import { customerLetter, type Letter } from '../../core/checks/letter.ts';
import { breathe } from '../../core/pieces.ts';
import type { Subject } from '../../core/vocabulary.ts';
import { someChecks } from '../../store/checks.ts';
import { findCustomer } from '../../store/customers.ts';
import { requireDomain } from '../directory/domains.ts';
import { check, lastCheck } from './checks.ts';
import type { DnsDeps } from './deps.ts';

export interface DomainLetter {
  domain: string;
  customer: string;
  /** How to reach the customer, as the administrator has noted it. */
  contact: string | null;
  checkedAt: number;
  /** Null when nothing is known that the domain's DNS needs. */
  letter: Letter | null;
  /** What could not be asked about. */
  unknown: Subject[];
}

/** Somebody to write to. */
export interface LetterToWrite {
  domain: string;
  customer: string;
  contact: string | null;
  checkedAt: number;
  /** What is to be changed: MX, SPF … */
  about: string[];
}

/** So many results are read in one turn. */
const AT_ONCE = 50;

/** Whom to write to, by the last checks: everybody who has something to change in DNS. */
export async function lettersToWrite({ db }: DnsDeps): Promise<LetterToWrite[]> {
  const letters: LetterToWrite[] = [];
  for (let after = 0; ; await breathe()) {
    const some = someChecks(db, after, AT_ONCE);
    for (const { id, findings, ...one } of some) {
      after = id;
      const letter = customerLetter(one.domain, findings);
      if (letter) letters.push({ ...one, about: letter.about });
    }
    if (some.length < AT_ONCE) return letters;
  }
}

/** What a customer is to change in DNS, by the last check; a domain that nobody has checked is checked now. */
export async function domainLetter(context: DnsDeps, name: string): Promise<DomainLetter> {
  const { name: domain, customer } = requireDomain(context, name);
  const report = lastCheck(context, domain) ?? (await check(context, domain));
  return {
    domain,
    customer,
    contact: findCustomer(context.db, customer)?.contact ?? null,
    checkedAt: report.checkedAt,
    letter: customerLetter(domain, report.findings),
    unknown: [...new Set(report.findings.filter((one) => one.verdict === 'unknown').map((one) => one.subject))],
  };
}
