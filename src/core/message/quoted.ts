/** Behind a quoted string that begins at `start` (RFC 5322 §3.2.4); -1 when it has no end. */
export function endOfQuoted(value: string, start: number): number {
  for (let at = start + 1; at < value.length; at += 1) {
    if (value[at] === '\\') at += 1;
    else if (value[at] === '"') return at + 1;
  }
  return -1;
}

/** Nested deeper than this, a comment is no person's. */
const DEEPEST_COMMENT = 50;

/** Behind a comment that begins at `start`, with those inside it (RFC 5322 §3.2.2); -1 when it has no end, or nests too deep. */
export function endOfComment(value: string, start: number): number {
  let depth = 0;
  for (let at = start; at < value.length; at += 1) {
    if (value[at] === '\\') at += 1;
    else if (value[at] === '(') {
      depth += 1;
      if (depth > DEEPEST_COMMENT) return -1;
    } else if (value[at] === ')') {
      depth -= 1;
      if (depth === 0) return at + 1;
    }
  }
  return -1;
}

/** The text without its quoted strings, in place of each of them `instead`; what has no end is left as it is. One pass over the text. */
export function withoutQuoted(text: string, instead = ''): string {
  const kept: string[] = [];
  let from = 0;
  for (let at = text.indexOf('"'); at >= 0; at = text.indexOf('"', from)) {
    const end = endOfQuoted(text, at);
    if (end < 0) break;
    kept.push(text.slice(from, at), instead);
    from = end;
  }
  kept.push(text.slice(from));
  return kept.join('');
}
