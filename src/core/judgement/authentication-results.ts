import { bodyOffset } from '../message/fields.ts';
import { endOfComment } from '../message/quoted.ts';
import type { Judgement } from './judge.ts';

/**
 * A value of the field: a token, a domain, or an address with one @ (RFC 8601 §2.2, RFC 2045 §5.1), and quoted otherwise; nothing can end
 * the line.
 */
function pvalue(text: string): string {
  const clean = text.replace(/[^\x21-\x7e]/g, '?').slice(0, 320);
  return /^[A-Za-z0-9!#$%&'*+.^_`{|}~-]+(@[A-Za-z0-9.-]+)?$/.test(clean) ? clean : `"${clean.replace(/["\\]/g, '\\$&')}"`;
}

/** A comment (RFC 5322 §3.2.2); for readers that don't know comments, it holds nothing that ends a result. */
const comment = (text: string): string =>
  `(${text
    .replace(/[^\x20-\x7e]/g, '?')
    .replace(/"/g, "'")
    .replace(/;/g, ',')
    .slice(0, 200)
    .replace(/[()\\]/g, '\\$&')})`;

/** Results of more signatures than these are left out: whoever adds hundreds gets no header of tens of thousands of octets for it. */
export const MOST_NAMED = 16;

/** The Authentication-Results field of a judged message, with its final CRLF (RFC 8601 §2). */
export function authenticationResults(hostName: string, { helo, spf, dkim, dmarc }: Judgement, sender: string): string {
  const results = [
    `spf=${helo.result} smtp.helo=${pvalue(helo.domain)}`,
    `spf=${spf.result} ${comment(spf.reason)} smtp.mailfrom=${pvalue(sender === '' ? `postmaster@${spf.domain}` : sender)}`,
    ...(dkim.length === 0 ? ['dkim=none'] : []),
    ...dkim
      .slice(0, MOST_NAMED)
      .map(
        (one) =>
          `dkim=${one.result} ${comment(one.reason)} header.d=${pvalue(one.domain)} header.s=${pvalue(one.selector)} header.a=${pvalue(one.algorithm)} header.b=${pvalue(one.mark)}`,
      ),
    `dmarc=${dmarc.result} ${comment(`p=${dmarc.policy}; ${dmarc.reason}`)} header.from=${pvalue(dmarc.domain)}`,
  ];
  return `Authentication-Results: ${hostName};\r\n${results.map((one) => `\t${one.replace(/ (?=(smtp|header)\.)/g, '\r\n\t ')}`).join(';\r\n')}\r\n`;
}

/**
 * The message without what only we may write: Authentication-Results fields that any reader could take for ours (RFC 8601 §5), and Return-Path,
 * which final delivery puts there (RFC 5321 §4.4).
 */
export function withoutForgedResults(message: Buffer, hostName: string): { message: Buffer; removed: number } {
  const offset = bodyOffset(message);
  const header = message.toString('latin1', 0, offset);
  let removed = 0;
  let dropped = 0;
  const kept = header.split(/(?<=\r\n)(?![ \t])/).filter((raw) => {
    const colon = raw.indexOf(':');
    const name = raw.slice(0, Math.max(0, colon)).replace(/[\s.]/g, '').toLowerCase();
    if (name === 'return-path') {
      dropped += 1;
      return false;
    }
    if (name !== 'authentication-results' || !mayBeBy(raw.slice(colon + 1), hostName)) return true;
    removed += 1;
    return false;
  });
  return removed + dropped === 0
    ? { message, removed }
    : { message: Buffer.concat([Buffer.from(kept.join(''), 'latin1'), message.subarray(offset)]), removed };
}

/**
 * Whether a reader could take the field for one by that host: by what stands before its first result, without comments, quotes, escapes and
 * blanks, a version or final dots (RFC 8601 §2.2); when a comment has no end, by the whole value. One pass over the value.
 */
function mayBeBy(value: string, hostName: string): boolean {
  const kept: string[] = [];
  let at = 0;
  for (let open = value.indexOf('('); open >= 0; open = value.indexOf('(', at)) {
    kept.push(value.slice(at, open));
    at = endOfComment(value, open);
    if (at < 0) return plain(value).includes(hostName);
  }
  kept.push(value.slice(at));
  const id = plain(kept.join('').split(';', 1)[0] ?? '');
  return withoutEnd(id, '.') === hostName || withoutEnd(withoutEnd(id, '0123456789'), '.') === hostName;
}

const plain = (text: string): string => text.replace(/[\s"\\]+/g, '').toLowerCase();

function withoutEnd(text: string, signs: string): string {
  let end = text.length;
  while (end > 0 && signs.includes(text.charAt(end - 1))) end -= 1;
  return text.slice(0, end);
}
