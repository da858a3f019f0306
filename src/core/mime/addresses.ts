import { afterComment, quoted } from './parameters.ts';

/** One address of a list, as octets kept as latin1; a group begins with one that has no host, and ends with one that has neither (RFC 3501 §7.4.2). */
export interface ListedAddress {
  name: string | null;
  /** RFC 5322 §4.4: the old source route. */
  route: string | null;
  mailbox: string | null;
  host: string | null;
}

const MOST_ADDRESSES = 1000;

/** The addresses of a From, To or the like, as widely as can be (RFC 5322 §3.4): what is broken gives what can be made of it. In one pass. */
export function listedAddresses(value: string): ListedAddress[] {
  const list: ListedAddress[] = [];
  let at = 0;
  /** Words before an angle bracket, or an address without any; `bare` keeps quotes. */
  let phrase: string[] = [];
  /** Pieces: a text that grows letter by letter would be read again and again. */
  let bare: string[] = [];
  let hasSign = false;
  let comment: string | null = null;
  let angle: string | null = null;
  let inGroup = false;
  const finish = (): void => {
    const text = angle ?? bare.join('').trim();
    if (angle !== null || text !== '') list.push(addressOf(text, angle === null ? comment : phrase.join(' ').trim() || comment));
    phrase = [];
    bare = [];
    hasSign = false;
    comment = null;
    angle = null;
  };
  while (at < value.length && list.length < MOST_ADDRESSES) {
    const letter = value.charAt(at);
    if (letter === '"') {
      const [inner, end] = quoted(value, at);
      phrase.push(inner);
      bare.push(value.slice(at, end));
      at = end;
    } else if (letter === '(') {
      const end = afterComment(value, at);
      comment ??= value.slice(at + 1, value[end - 1] === ')' ? end - 1 : end).trim();
      at = end;
    } else if (letter === '<') {
      const end = value.indexOf('>', at);
      angle ??= value.slice(at + 1, end < 0 ? value.length : end).trim();
      at = end < 0 ? value.length : end + 1;
    } else if (letter === ',' || letter === ';') {
      finish();
      if (letter === ';' && inGroup) {
        list.push({ name: null, route: null, mailbox: null, host: null });
        inGroup = false;
      }
      at += 1;
    } else if (letter === ':' && angle === null && !inGroup && !hasSign) {
      list.push({ name: null, route: null, mailbox: phrase.join(' ').trim() || bare.join('').trim(), host: null });
      inGroup = true;
      phrase = [];
      bare = [];
      at += 1;
    } else if (/\s/.test(letter)) {
      if (bare.length > 0 && bare.at(-1) !== ' ') bare.push(' ');
      at += 1;
    } else {
      const end = endOfWord(value, at);
      const word = value.slice(at, end);
      phrase.push(word);
      bare.push(word);
      hasSign ||= word.includes('@');
      at = end;
    }
  }
  finish();
  if (inGroup) list.push({ name: null, route: null, mailbox: null, host: null });
  return list;
}

function endOfWord(value: string, from: number): number {
  let at = from + 1;
  while (at < value.length && !/[\s"(<,;:]/.test(value.charAt(at))) at += 1;
  return at;
}

function addressOf(text: string, name: string | null): ListedAddress {
  const colon = text.startsWith('@') ? text.indexOf(':') : -1;
  const address = colon < 0 ? text : text.slice(colon + 1);
  const sign = address.lastIndexOf('@');
  return {
    name,
    route: colon < 0 ? null : text.slice(0, colon),
    mailbox: (sign < 0 ? address : address.slice(0, sign)).trim(),
    // Without a host it would be read as the beginning of a group.
    host: sign < 0 ? '' : address.slice(sign + 1).trim(),
  };
}
