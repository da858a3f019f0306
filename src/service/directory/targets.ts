import { parseAddress } from '../../core/address/mailbox-address.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { findAlias, lookUpMailbox } from '../../store/mailboxes.ts';
import { badInput } from '../base/problem.ts';
import type { DirectoryDeps } from './deps.ts';

/** What leads somewhere: the field that says where, and how many addresses it takes. */
interface Leading {
  field: string;
  /** `An alias`, at the beginning of a sentence. */
  what: string;
  least: number;
  most: number;
}
export const ALIAS: Leading = { field: 'targets', what: 'An alias', least: 1, most: 100 };
export const COPIES: Leading = { field: 'copyTo', what: 'A mailbox', least: 0, most: 10 };

/** Addresses that something leads to, each once, in the form in which they are kept; `own` is its own address. */
export function cleanTargets(targets: readonly string[], own: string, { field, what, least, most }: Leading): string[] {
  const clean = new Set<string>();
  for (const target of targets) {
    const parsed = parseAddress(target.trim());
    if (parsed.kind === 'invalid')
      throw badInput(field, `“${target.slice(0, 80)}” is not an address: ${parsed.reason}.`, 'Write addresses like ana@shop.example.');
    const address = `${parsed.address.local.toLowerCase()}@${parsed.address.domain}`;
    if (address === own) throw badInput(field, `${own} would deliver to itself.`, 'Name another address.');
    clean.add(address);
  }
  if (clean.size < least) throw badInput(field, `${what} needs at least one target.`, 'Give one or more target addresses.');
  if (clean.size > most) throw badInput(field, `${what} can have at most ${most} targets.`, 'Use another alias as a target.');
  return [...clean];
}

/** A target here must be somebody, so that nothing swallows mail; at a twin, whoever has that name at the domain that it is a twin of. */
export function requireReachable({ db }: DirectoryDeps, targets: readonly string[], own: string, field: string): void {
  for (const target of targets) {
    const [local = '', named = ''] = target.split('@');
    const domain = findDomainFacts(db, named)?.twinOf ?? named;
    if (findDomainFacts(db, domain)?.role !== 'home') continue;
    if (`${local}@${domain}` === own) throw badInput(field, `${target} is ${own} itself.`, 'Name another address.');
    const plain = local.split('+')[0] ?? local;
    if (!lookUpMailbox(db, plain, domain) && !findAlias(db, plain, domain))
      throw badInput(field, `There is no mailbox or alias ${target} here.`, 'Add that mailbox first, or check the spelling.');
  }
}
