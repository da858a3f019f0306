/** As many values of a request are looked at. */
const MOST_VALUES = 20_000;

/**
 * The field of a request that holds what a problem is about, like `scope` or `accounts.3.into`: the value itself, or an address in that
 * domain. Null where the path names it, or nothing does.
 */
export function namedField(subject: string, path: readonly string[], parts: readonly unknown[]): string | null {
  const wanted = subject.toLowerCase();
  const isMeant = (value: unknown): boolean =>
    typeof value === 'string' && (value.toLowerCase() === wanted || value.toLowerCase().endsWith(`@${wanted}`));
  if (path.some(isMeant)) return null;
  let left = MOST_VALUES;
  const find = (value: unknown, place: string): string | null => {
    left -= 1;
    if (left < 0) return null;
    if (isMeant(value)) return place;
    if (typeof value !== 'object' || value === null) return null;
    for (const [name, inner] of Object.entries(value)) {
      const found = find(inner, place === '' ? name : `${place}.${name}`);
      if (found !== null) return found;
    }
    return null;
  };
  for (const part of parts) {
    const found = find(part, '');
    if (found !== null) return found;
  }
  return null;
}
