import { organisationalDomain } from '../dmarc/record.ts';
import { type Answer, type Lookup, lookUp, type SoaValue } from './answers.ts';
import { relativeTo, type SheetRecord } from './sheet.ts';

/** The zone that has a name: where it begins, and its SOA. Null when nobody says. */
export async function zoneAbove(name: string, lookup: Lookup): Promise<{ apex: string; soa: SoaValue } | null> {
  const labels = name.split('.');
  for (let at = 0; at < labels.length - 1; at += 1) {
    const apex = labels.slice(at).join('.');
    const answer: Answer<'SOA'> = await lookUp(lookup, apex, 'SOA');
    if (answer.kind === 'failed') return null;
    const soa = answer.kind === 'found' && answer.alias === null ? answer.values[0] : undefined;
    if (soa) return { apex, soa };
  }
  return null;
}

/**
 * Where the zone begins in which a domain's records stand; null when it is not known. What was registered is a zone of its own, or will be one: only below
 * that is there something to find out.
 */
export async function apexOf(domain: string, lookup: Lookup): Promise<string | null> {
  return domain === organisationalDomain(domain) ? domain : ((await zoneAbove(domain, lookup))?.apex ?? null);
}

/** Records of the domain with the names that the form of their own zone takes: it may be the parent's. Where the zone is not known, only the full name is told. */
export function inZone(records: readonly SheetRecord[], apex: string | null): SheetRecord[] {
  return records.map((one) =>
    one.where === 'domain'
      ? { ...one, relativeName: apex !== null && (one.name === apex || one.name.endsWith(`.${apex}`)) ? relativeTo(one.name, apex) : null }
      : one,
  );
}
