/** One field of a header, as octets kept one to one as latin1. */
export interface HeaderField {
  /** In lower case. */
  name: string;
  /** Unfolded: without its line ends, and without blanks at both ends. */
  value: string;
  /** As it stands there, with its last line end. */
  raw: string;
}

/** Fields beyond these are passed over: no mail program makes so many. */
const MOST_FIELDS = 1000;
/** A header is read up to here; in octets. */
export const MOST_HEADER = 256 * 1024;

/** The fields between two places of a text, whatever its line ends are (RFC 5322 §2.2; what is no field is passed over). */
export function fieldsOf(text: Buffer, start: number, end: number): HeaderField[] {
  const header = text.toString('latin1', start, Math.min(end, start + MOST_HEADER));
  const fields: HeaderField[] = [];
  for (let at = 0; at < header.length && fields.length < MOST_FIELDS; ) {
    const next = endOfField(header, at);
    const raw = header.slice(at, next);
    at = next;
    const colon = raw.indexOf(':');
    if (colon < 1) continue;
    const name = raw.slice(0, colon).trimEnd();
    // RFC 5322 §2.2: printable ASCII without colon.
    if (!/^[\x21-\x39\x3b-\x7e]+$/.test(name)) continue;
    fields.push({ name: name.toLowerCase(), value: unfolded(raw.slice(colon + 1)), raw });
  }
  return fields;
}

/** The first field of that name. */
export const firstField = (fields: readonly HeaderField[], name: string): string | null =>
  fields.find((one) => one.name === name)?.value ?? null;

/** All fields of that name as one list of addresses: what must stand there once is doubled often enough. */
export const joinedFields = (fields: readonly HeaderField[], name: string): string | null => {
  const values = fields.filter((one) => one.name === name).map((one) => one.value);
  return values.length === 0 ? null : values.join(', ');
};

/** Where the field that begins there ends: after the first line end that no blank follows. */
export function endOfField(header: string, from: number): number {
  for (let at = from; ; ) {
    const end = header.indexOf('\n', at);
    if (end < 0) return header.length;
    const next = header.charCodeAt(end + 1);
    if (next !== 0x20 && next !== 0x09) return end + 1;
    at = end + 1;
  }
}

const unfolded = (text: string): string => {
  const line = text.replace(/\r?\n|\r/g, '');
  let [start, end] = [0, line.length];
  const isBlank = (at: number): boolean => line[at] === ' ' || line[at] === '\t';
  while (start < end && isBlank(start)) start += 1;
  while (end > start && isBlank(end - 1)) end -= 1;
  return line.slice(start, end);
};
