const escaped = (text: string): string => text.replace(/[\\^$.*+?()[\]{}|/-]/g, '\\$&');

/** The line of a key in the text of a configuration, when it can be found: the n-th table of that name, then the key in it. */
export function lineOf(text: string, path: readonly PropertyKey[]): number | null {
  const lines = text.split('\n');
  const found = path.findLast((part) => typeof part === 'string');
  const key = escaped(String(found));
  const table = path.length > 1 ? escaped(String(path[0])) : null;
  // A number further in is a place in a list, which has no line of its own.
  const index = typeof path[1] === 'number' ? path[1] : undefined;
  let at = 0;
  if (table !== null) {
    const header = index === undefined ? new RegExp(`^\\s*\\[${table}\\]`) : new RegExp(`^\\s*\\[\\[${table}\\]\\]`);
    for (let left = (index ?? 0) + 1; left > 0; left -= 1) {
      at = lines.findIndex((line, number) => number >= at && header.test(line)) + 1;
      if (at === 0) return null;
    }
  }
  for (let number = at; number < lines.length; number += 1) {
    if (number > at - 1 && /^\s*\[/.test(lines[number] ?? '') && table !== null) break;
    if (new RegExp(`^\\s*"?${key}"?\\s*=`).test(lines[number] ?? '')) return number + 1;
  }
  if (at > 0) return at;
  // A whole table may be what is meant.
  const whole = lines.findIndex((line) => new RegExp(`^\\s*\\[{1,2}\\s*"?${key}"?\\s*[.\\]]`).test(line));
  return whole < 0 ? null : whole + 1;
}
