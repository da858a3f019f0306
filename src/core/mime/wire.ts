/** Longer strings are sent as literals. */
const LONGEST_QUOTED = 1000;

/** A string as IMAP sends it (RFC 3501 §4.3), octets kept as latin1: in quotes where that may be, else as a literal; null is NIL. */
export function nstring(text: string | null): string {
  if (text === null) return 'NIL';
  if (text.length <= LONGEST_QUOTED && !/[^\x20-\x7e]/.test(text)) return `"${text.replace(/["\\]/g, '\\$&')}"`;
  return literal(text);
}

/** RFC 3501 §9: a literal holds any octet but NUL. */
export const literal = (text: string): string => `{${text.length}}\r\n${text.replaceAll('\0', '\x80')}`;
