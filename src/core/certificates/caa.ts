/** A record that says who may give certificates (RFC 8659 §4.1). */
export interface CaaValue {
  tag: string;
  value: string;
  isCritical: boolean;
}

const KNOWN_TAGS = new Set(['issue', 'issuewild', 'iodef', 'contactemail', 'contactphone']);

/** Whether the records that count for a name let an authority, by the names that it goes by, give a certificate for it (RFC 8659 §4.2, §4.3). */
export function permitsAuthority(records: readonly CaaValue[], authority: readonly string[], isWildcard: boolean): boolean {
  // What is critical and not understood forbids all.
  if (records.some((one) => one.isCritical && !KNOWN_TAGS.has(one.tag))) return false;
  const ofTag = (tag: string): CaaValue[] => records.filter((one) => one.tag === tag);
  const wild = ofTag('issuewild');
  const counting = isWildcard && wild.length > 0 ? wild : ofTag('issue');
  return counting.length === 0 ? true : counting.some((one) => authority.includes(one.value.split(';')[0]?.trim().toLowerCase() ?? ''));
}

/** The names at which records are looked for, the first that has any counts (RFC 8659 §3). */
export function caaNames(name: string): string[] {
  const labels = name.replace(/^\*\./, '').split('.');
  return labels.map((_label, at) => labels.slice(at).join('.'));
}
