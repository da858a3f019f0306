import { isDmarc } from '../dmarc/record.ts';
import { isSpf } from '../spf/record.ts';
import type { Subject } from '../vocabulary.ts';
import type { SheetRecord } from './sheet.ts';

/** One record to be added to a zone or taken out of it; texts as in a sheet. */
export interface ZoneChange {
  action: 'add' | 'remove';
  type: SheetRecord['type'];
  name: string;
  value: string;
}

/** What stands at names, by `TYPE name`; texts as in a sheet. */
export type Stand = ReadonlyMap<string, readonly string[]>;

/** Which of the records at a sheet record's name and type are the sheet's to decide on; all others are the customer's. */
function isOurs(subject: Subject, value: string): boolean {
  if (subject === 'spf') return isSpf(value);
  return subject === 'dmarc' ? isDmarc(value) : true;
}

/**
 * What brings a zone in line with a sheet. `published` has what stands at each name and type now; a name with several sheet records of
 * one subject is compared as a set.
 */
export function zoneChanges(
  sheet: readonly SheetRecord[],
  published: (name: string, type: SheetRecord['type']) => readonly string[],
): ZoneChange[] {
  const changes: ZoneChange[] = [];
  const seen = new Set<string>();
  for (const { name, type, subject } of sheet) {
    const slot = `${type} ${name} ${subject}`;
    if (seen.has(slot)) continue;
    seen.add(slot);
    const wanted = sheet.filter((one) => one.name === name && one.type === type && one.subject === subject).map((one) => one.value);
    const found = published(name, type).filter((value) => isOurs(subject, value));
    // Out first: some servers count what would stand side by side in between.
    // The same text twice, parted differently, is two records (RFC 7208 §4.5), and both go for the one.
    const once = (value: string): boolean => found.indexOf(value) === found.lastIndexOf(value);
    for (const value of new Set(found)) if (!wanted.includes(value) || !once(value)) changes.push({ action: 'remove', type, name, value });
    for (const value of new Set(wanted)) if (!found.includes(value) || !once(value)) changes.push({ action: 'add', type, name, value });
  }
  return changes;
}
