import { folderName, INBOX, SEPARATOR } from '../mailbox/folder-names.ts';
import { nstring } from '../mime/wire.ts';

/** A folder's name as it came: in modified UTF-7 (RFC 3501 §5.1.3), or, where the client has said so or just does it, in UTF-8. Null for one that can't be. */
export function readFolderName(octets: Buffer, isUtf8: boolean): string | null {
  const text = octets.toString('utf8');
  const name = isUtf8 || /[^\x20-\x7e]/.test(text) ? text : fromModifiedUtf7(text);
  return name === null ? null : folderName(name);
}

/** A folder's name as it is sent. */
export const folderNameText = (name: string, isUtf8: boolean): string => (isUtf8 ? utf8String(name) : nstring(toModifiedUtf7(name)));

/** A quoted string of UTF-8 (RFC 6855 §3), as octets kept as latin1. */
export const utf8String = (text: string): string => `"${Buffer.from(text).toString('latin1').replace(/["\\]/g, '\\$&')}"`;

export function toModifiedUtf7(name: string): string {
  return name.replace(/&|[^\x20-\x7e]+/g, (some) => {
    if (some === '&') return '&-';
    const octets = Buffer.from(some, 'utf16le').swap16();
    return `&${octets.toString('base64').replace(/=+$/, '').replaceAll('/', ',')}-`;
  });
}

/** Null for what is no modified UTF-7. */
export function fromModifiedUtf7(text: string): string | null {
  let isGood = true;
  const name = text.replace(/&([A-Za-z0-9+,]*)(-?)/g, (_all, coded: string, end: string) => {
    if (end === '') isGood = false;
    if (coded === '') return '&';
    const octets = Buffer.from(coded.replaceAll(',', '/'), 'base64');
    if (octets.length % 2 !== 0) {
      isGood = false;
      return '';
    }
    return octets.swap16().toString('utf16le');
  });
  return isGood ? name : null;
}

/** Whether a name fits a pattern of LIST (RFC 3501 §6.3.8): `*` for anything, `%` for anything but the separator. In time linear in name times pattern. */
export function fitsPattern(name: string, pattern: string): boolean {
  const letters = [...name];
  const inAnyCase = name === INBOX || name.startsWith(INBOX + SEPARATOR) ? INBOX.length : 0;
  let fits = new Set([0]);
  for (const part of [...pattern]) {
    const next = new Set<number>();
    for (const at of fits) {
      if (part === '*' || part === '%') {
        for (let to = at; to <= letters.length; to += 1) {
          if (next.has(to) && to > at) break;
          next.add(to);
          if (part === '%' && letters[to] === SEPARATOR) break;
        }
      } else if (letters[at] === part || (at < inAnyCase && letters[at]?.toLowerCase() === part.toLowerCase())) next.add(at + 1);
    }
    fits = next;
    if (fits.size === 0) return false;
  }
  return fits.has(letters.length);
}
