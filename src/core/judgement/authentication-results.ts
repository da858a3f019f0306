import { bodyOffset } from '../message/fields.ts';
import { endOfComment, endOfQuoted } from '../message/quoted.ts';
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

/** The message without Authentication-Results fields that claim to be ours (RFC 8601 §5): only we write those. */
export function withoutForgedResults(message: Buffer, hostName: string): { message: Buffer; removed: number } {
  const offset = bodyOffset(message);
  const header = message.toString('latin1', 0, offset);
  let removed = 0;
  const kept = header.split(/(?<=\r\n)(?![ \t])/).filter((raw) => {
    const value = /^Authentication-Results[ \t]*:([\s\S]*)/i.exec(raw)?.[1];
    if (value === undefined) return true;
    const by = writer(value);
    // What can't be read is gone when any reader might take it for ours.
    if (by === null ? !value.toLowerCase().includes(hostName) : by !== hostName) return true;
    removed += 1;
    return false;
  });
  return removed === 0
    ? { message, removed }
    : { message: Buffer.concat([Buffer.from(kept.join(''), 'latin1'), message.subarray(offset)]), removed };
}

/**
 * The authserv-id of a field's value, behind any comments, unquoted (RFC 8601 §2.2, §2.5); null when quotes or comments have no end. One pass
 * over the value.
 */
function writer(value: string): string | null {
  const text = value.replaceAll('\r\n', '');
  let at = 0;
  let name = '';
  while (at < text.length) {
    const char = text.charAt(at);
    if (char === '(') {
      at = endOfComment(text, at);
      if (at < 0) return null;
      if (name !== '') break;
    } else if (char === '"' && name === '') {
      const end = endOfQuoted(text, at);
      return end < 0
        ? null
        : text
            .slice(at + 1, end - 1)
            .replace(/\\(.)/g, '$1')
            .toLowerCase();
    } else if (/[\s;]/.test(char)) {
      if (name !== '' || char === ';') break;
      at += 1;
    } else {
      name += char;
      at += 1;
    }
  }
  return name.toLowerCase();
}
