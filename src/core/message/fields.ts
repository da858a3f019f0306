/** One header field as it stands in a message. */
export interface Field {
  /** As written, without the colon. */
  name: string;
  /** Unfolded and trimmed (RFC 5322 §2.2.3). */
  value: string;
  /** The whole field with its folds, without the final CRLF. */
  raw: string;
}

/** Without spaces and tabs at the ends. `trim` would take the last octet of a letter such as “à”, which alone is a space of Latin-1. */
export function trimmed(text: string): string {
  const isBlank = (at: number): boolean => text[at] === ' ' || text[at] === '\t';
  let [start, end] = [0, text.length];
  while (start < end && isBlank(start)) start += 1;
  while (end > start && isBlank(end - 1)) end -= 1;
  return text.slice(start, end);
}

/** Where the body begins: the octet after the empty line, or the end when there is no body. */
export function bodyOffset(message: Buffer): number {
  if (message[0] === 0x0d && message[1] === 0x0a) return 2;
  const at = message.indexOf('\r\n\r\n');
  return at < 0 ? message.length : at + 4;
}

/** The header fields in their order; octets are kept one to one as latin1. Lines that are no field are left out. */
export function parseFields(message: Buffer): Field[] {
  const header = message.toString('latin1', 0, bodyOffset(message));
  const fields: Field[] = [];
  for (const raw of header.split(/\r\n(?![ \t])/)) {
    const colon = raw.indexOf(':');
    if (colon < 1) continue;
    const name = raw.slice(0, colon).trimEnd();
    // RFC 5322 §2.2: printable ASCII without colon.
    if (!/^[\x21-\x39\x3b-\x7e]+$/.test(name)) continue;
    fields.push({ name, value: trimmed(raw.slice(colon + 1).replaceAll('\r\n', '')), raw });
  }
  return fields;
}

/** The message without the fields of some names, given in lower case; the same message when there are none. */
export function withoutFields(message: Buffer, names: readonly string[]): Buffer {
  const offset = bodyOffset(message);
  const fields = message.toString('latin1', 0, offset).split(/(?<=\r\n)(?![ \t])/);
  const kept = fields.filter(
    (raw) =>
      !names.includes(
        raw
          .slice(0, Math.max(0, raw.indexOf(':')))
          .trimEnd()
          .toLowerCase(),
      ),
  );
  return kept.length === fields.length ? message : Buffer.concat([Buffer.from(kept.join(''), 'latin1'), message.subarray(offset)]);
}

export const fieldsNamed = (fields: readonly Field[], name: string): Field[] =>
  fields.filter((field) => field.name.toLowerCase() === name.toLowerCase());

/** A field value fit for one line on a page or in a journal: encoded words decoded (RFC 2047), length bounded. */
export function displayText(value: string, longest = 200): string {
  const joined = value.replace(/(=\?[^?\s]+\?[bqBQ]\?[^?\s]*\?=)\s+(?==\?)/g, '$1');
  const text = joined.replace(/=\?([^?\s*]+)(?:\*[^?\s]*)?\?([bqBQ])\?([^?\s]*)\?=/g, (whole, charset, coding, coded) => {
    const bytes =
      String(coding).toLowerCase() === 'b'
        ? Buffer.from(String(coded), 'base64')
        : Buffer.from(
            String(coded)
              .replace(/_/g, ' ')
              .replace(/=([0-9A-Fa-f]{2})/g, (_hex, hex) => String.fromCharCode(Number.parseInt(hex, 16))),
            'latin1',
          );
    try {
      return new TextDecoder(String(charset)).decode(bytes);
    } catch {
      return String(whole);
    }
  });
  const decoded = text === value ? Buffer.from(text, 'latin1').toString('utf8') : text;
  return decoded.length > longest ? `${decoded.slice(0, longest - 1)}…` : decoded;
}
