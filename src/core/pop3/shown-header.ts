import { encodedWords } from '../message/encoded-words.ts';
import { listedAddresses } from '../mime/addresses.ts';
import { endOfField, MOST_HEADER } from '../mime/header.ts';
import { decoded, decodedWords } from '../mime/words.ts';

/** How a mail program is shown a message. */
export interface ShownAs {
  /** It asked for letters beyond ASCII as they are (RFC 6856 §2); else it gets none in the header. */
  isUtf8: boolean;
  /** From the folder for junk, which its owner wants to see here, too. */
  isJunk: boolean;
}

/** What the subject of junk begins with. */
const JUNK_MARK = '[Junk] ';
/** Octets of the beginning of a text that its header is looked for in. */
export const SHOWN_AT_ONCE = 256 * 1024;

const ADDRESS_FIELDS = new Set(
  'from to cc bcc sender reply-to return-path resent-from resent-to resent-cc resent-bcc resent-sender'.split(' '),
);
/** RFC 6858 §2.1: what stands for an address that can't be written in ASCII. */
const NO_ADDRESS = 'invalid@internationalized-address.invalid';

/** The beginning of a message, with its whole header, as a mail program is shown it; what does not concern the header stays to the octet. In linear time. */
export function shownHeader(octets: Buffer, { isUtf8, isJunk }: ShownAs): Buffer {
  const end = endOfHeader(octets);
  const needsAscii = !isUtf8 && octets.subarray(0, end).some((octet) => octet > 0x7f);
  if (!needsAscii && !isJunk) return octets;
  const header = octets.toString('latin1', 0, end);
  const shown: string[] = [];
  let isMarked = !isJunk;
  for (let at = 0; at < header.length; ) {
    const next = endOfField(header, at);
    let raw = header.slice(at, next);
    at = next;
    if (!isMarked && /^subject[ \t]*:/i.test(raw)) {
      isMarked = true;
      raw = raw.replace(/^[^:]*:[ \t]*/, (before) => before + JUNK_MARK);
    }
    shown.push(needsAscii && /[\x80-\xff]/.test(raw) ? inAscii(raw) : raw);
  }
  if (!isMarked) shown.unshift(`Subject: ${JUNK_MARK.trim()}\r\n`);
  return Buffer.concat([Buffer.from(shown.join(''), 'latin1'), octets.subarray(end)]);
}

/** Where the empty line begins, whatever the line ends are. */
function endOfHeader(octets: Buffer): number {
  for (let at = 0; at < Math.min(octets.length, MOST_HEADER); ) {
    if (octets[at] === 0x0a || (octets[at] === 0x0d && octets[at + 1] === 0x0a)) return at;
    const end = octets.indexOf(0x0a, at);
    if (end < 0) break;
    at = end + 1;
  }
  return Math.min(octets.length, MOST_HEADER);
}

/** A field in ASCII (RFC 6858 §2): letters as encoded words, addresses that have none as a place holder; its structure else is lost. */
function inAscii(raw: string): string {
  const colon = raw.indexOf(':');
  const name = raw.slice(0, Math.max(0, colon)).trimEnd();
  // No field at all: nobody knows what its octets mean.
  if (!/^[\x21-\x39\x3b-\x7e]+$/.test(name)) return raw.replace(/[\x80-\xff]/g, '?');
  const value = raw
    .slice(colon + 1)
    .replace(/\r?\n|\r/g, '')
    .trim();
  const words = ADDRESS_FIELDS.has(name.toLowerCase())
    ? listedAddresses(value)
        .flatMap(({ name: called, mailbox, host }) => {
          if (mailbox === null || host === null) return [];
          const address = `${mailbox}@${host}`;
          const isPlain = /^[\x21-\x7e]+$/.test(address);
          const shown = called ?? (isPlain ? null : decoded(Buffer.from(address, 'latin1'), null));
          return `${shown === null ? '' : `${phrase(decodedWords(shown))} `}<${isPlain ? address : NO_ADDRESS}>`;
        })
        .join(',\r\n ')
    : encodedWords(decodedWords(value));
  return `${name}: ${words}\r\n`;
}

/** A name before an address: quoted when it is plain, else as encoded words. */
function phrase(name: string): string {
  const words = encodedWords(name);
  return words.startsWith('=?') ? words : `"${words.replace(/["\\]/g, '\\$&')}"`;
}
