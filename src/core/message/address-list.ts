import { endOfComment, endOfQuoted, withoutQuoted } from './quoted.ts';

/** A field with more is taken for unreadable. */
const MOST_ADDRESSES = 2000;

/**
 * The addresses in a From, To or Sender value (RFC 5322 §3.4): display names, quoted strings, comments and groups are read and dropped.
 * Returns null when the value can't be read as an address list, so that a caller never trusts half of one.
 */
export function addressesIn(value: string): string[] | null {
  const found: string[] = [];
  let at = 0;
  let text = '';
  let angle: string | null = null;
  const finish = (): boolean => {
    const address = (angle ?? text).trim();
    const plain = angle === null;
    text = '';
    angle = null;
    if (address === '') return plain;
    // Without angle brackets there is only the address; a phrase beside it makes the field unreadable, and so does a second @.
    const bare = withoutQuoted(address, '""');
    const sign = bare.indexOf('@');
    if (sign < 1 || sign === bare.length - 1 || bare.includes('@', sign + 1) || (plain && /\s/.test(bare))) return false;
    found.push(address);
    return found.length <= MOST_ADDRESSES;
  };
  while (at < value.length) {
    const char = value.charAt(at);
    if (char === '"') {
      const end = endOfQuoted(value, at);
      if (end < 0 || angle !== null) return null;
      text += value.slice(at, end);
      at = end;
    } else if (char === '(') {
      at = endOfComment(value, at);
      if (at < 0) return null;
    } else if (char === '<') {
      const end = value.indexOf('>', at);
      // A second address, or one as the name of another: programs show the one or the other.
      if (end < 0 || angle !== null || withoutQuoted(text).includes('@')) return null;
      angle = value.slice(at + 1, end);
      if (/[<,;\s]/.test(withoutQuoted(angle))) return null;
      text = '';
      at = end + 1;
    } else if (char === ',' || char === ';') {
      if (!finish()) return null;
      at += 1;
    } else if (char === ':') {
      if (angle !== null || withoutQuoted(text).includes('@')) return null;
      text = '';
      at += 1;
    } else {
      if (angle !== null && !/\s/.test(char)) return null;
      text += char;
      at += 1;
    }
  }
  return finish() ? found : null;
}
