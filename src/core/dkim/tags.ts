export type TagParse =
  | { kind: 'ok'; tags: Map<string, string>; positions: Map<string, number> }
  | { kind: 'invalid'; reason: string; position: number };

/** A tag=value list (RFC 6376 §3.2), as in signatures, key records and DMARC records. Twice the same tag is an error. Positions count characters from 0. */
export function parseTags(text: string): TagParse {
  const tags = new Map<string, string>();
  const positions = new Map<string, number>();
  let next = 0;
  for (const part of text.split(';')) {
    const position = next + part.length - part.trimStart().length;
    next += part.length + 1;
    if (part.trim() === '') continue;
    const equals = part.indexOf('=');
    const name = part.slice(0, equals).trim();
    if (equals < 0 || !/^[A-Za-z][A-Za-z0-9_]*$/.test(name))
      return { kind: 'invalid', reason: `"${part.trim().slice(0, 40)}" is not a tag`, position };
    if (tags.has(name)) return { kind: 'invalid', reason: `the tag ${name}= is given twice`, position };
    positions.set(name, position);
    tags.set(name, part.slice(equals + 1).trim());
  }
  return { kind: 'ok', tags, positions };
}

export const withoutSpace = (text: string): string => text.replace(/[ \t\r\n]+/g, '');
