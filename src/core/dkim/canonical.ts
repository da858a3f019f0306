export type Canonicalisation = 'simple' | 'relaxed';

/** A header field in canonical form, without its final CRLF (RFC 6376 §3.4.1, §3.4.2). */
export function canonicalField(raw: string, how: Canonicalisation): string {
  if (how === 'simple') return raw;
  const colon = raw.indexOf(':');
  const name = raw.slice(0, colon).trim().toLowerCase();
  const value = raw
    .slice(colon + 1)
    .replace(/\r\n/g, '')
    .replace(/[ \t]+/g, ' ')
    .trim();
  return `${name}:${value}`;
}

/** A body in canonical form (RFC 6376 §3.4.3, §3.4.4). */
export function canonicalBody(body: Buffer, how: Canonicalisation): Buffer {
  let text = body.toString('latin1');
  if (how === 'relaxed')
    text = text
      .replace(/[ \t]+/g, ' ')
      .replace(/ (?=\r\n)/g, '')
      .replace(/ $/, '');
  let end = text.length;
  while (text.endsWith('\r\n', end)) end -= 2;
  text = text.slice(0, end);
  if (text !== '' || how === 'simple') text += '\r\n';
  return Buffer.from(text, 'latin1');
}
