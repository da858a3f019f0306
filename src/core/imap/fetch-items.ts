import type { OutlinePart } from './mailroom.ts';
import { readSection, type Section } from './sections.ts';
import { SyntaxFault, type Tokens } from './tokens.ts';

/** One thing that is asked of each message (RFC 3501 §6.4.5 and its extensions). */
export type FetchItem =
  | { kind: 'uid' | 'flags' | 'modseq' }
  | { kind: 'internal-date' | 'size' | 'email-id' | 'save-date' }
  | { kind: 'envelope' | 'body' | 'body-structure' | 'thread-id' | 'preview' }
  /** `name` as it is given back; `isPeek`: the message is not seen by it. */
  | { kind: 'text'; name: string; section: Section; partial: Excerpt | null; isPeek: boolean }
  /** Without its transfer encoding (RFC 3516). */
  | { kind: 'binary'; name: string; path: number[]; partial: Excerpt | null; isPeek: boolean }
  | { kind: 'binary-size'; name: string; path: number[] };

/** Octets from a place on, at most so many. */
interface Excerpt {
  from: number;
  most: number;
}

const PLAIN: Record<string, FetchItem> = {
  UID: { kind: 'uid' },
  FLAGS: { kind: 'flags' },
  MODSEQ: { kind: 'modseq' },
  INTERNALDATE: { kind: 'internal-date' },
  'RFC822.SIZE': { kind: 'size' },
  EMAILID: { kind: 'email-id' },
  SAVEDATE: { kind: 'save-date' },
  ENVELOPE: { kind: 'envelope' },
  BODYSTRUCTURE: { kind: 'body-structure' },
  THREADID: { kind: 'thread-id' },
  RFC822: { kind: 'text', name: 'RFC822', section: { path: [], what: 'all', fields: [] }, partial: null, isPeek: false },
  'RFC822.HEADER': { kind: 'text', name: 'RFC822.HEADER', section: { path: [], what: 'header', fields: [] }, partial: null, isPeek: true },
  'RFC822.TEXT': { kind: 'text', name: 'RFC822.TEXT', section: { path: [], what: 'text', fields: [] }, partial: null, isPeek: false },
};
const FAST = ['FLAGS', 'INTERNALDATE', 'RFC822.SIZE'];
const MACROS: Record<string, string[]> = { FAST, ALL: [...FAST, 'ENVELOPE'], FULL: [...FAST, 'ENVELOPE', 'BODY'] };

/** Which parts of the outline an item needs. */
export const OUTLINE_NEEDED: Partial<Record<FetchItem['kind'], OutlinePart>> = {
  envelope: 'envelope',
  body: 'body',
  'body-structure': 'bodyStructure',
  'thread-id': 'thread',
  preview: 'preview',
  text: 'parts',
  binary: 'parts',
  'binary-size': 'parts',
};

/** All that is asked, one item or several in parentheses. */
export function readFetchItems(tokens: Tokens): FetchItem[] {
  if (tokens.peek() === '(') return tokens.list(() => readItem(tokens));
  for (const [name, items] of Object.entries(MACROS))
    if (tokens.match(new RegExp(`${name}(?![A-Z0-9.])`, 'iy')) !== null) return items.map((one) => PLAIN[one] ?? { kind: 'body' });
  return [readItem(tokens)];
}

function readItem(tokens: Tokens): FetchItem {
  const name = tokens.match(/[A-Za-z0-9.]+/y)?.toUpperCase() ?? '';
  const plain = PLAIN[name];
  if (plain) return plain;
  if (name === 'PREVIEW') {
    // RFC 8970 §3.2: LAZY asks only for what is at hand, which it always is.
    if (tokens.take(' (LAZY)')) return { kind: 'preview' };
    return { kind: 'preview' };
  }
  if (name === 'BODY' && tokens.peek() !== '[') return { kind: 'body' };
  if (name === 'BODY' || name === 'BODY.PEEK') {
    const section = readSection(tokens);
    const partial = readPartial(tokens);
    return {
      kind: 'text',
      name: `BODY[${section.text}]${partial ? `<${partial.from}>` : ''}`,
      section: section.section,
      partial,
      isPeek: name === 'BODY.PEEK',
    };
  }
  if (name === 'BINARY' || name === 'BINARY.PEEK' || name === 'BINARY.SIZE') {
    const { section, text } = readSection(tokens);
    if (section.what !== 'all') throw new SyntaxFault('BINARY takes a part, or nothing');
    if (name === 'BINARY.SIZE') return { kind: 'binary-size', name: `BINARY.SIZE[${text}]`, path: section.path };
    const partial = readPartial(tokens);
    return {
      kind: 'binary',
      name: `BINARY[${text}]${partial ? `<${partial.from}>` : ''}`,
      path: section.path,
      partial,
      isPeek: name === 'BINARY.PEEK',
    };
  }
  throw new SyntaxFault(`${name.slice(0, 40) || 'That'} is not a FETCH item`);
}

function readPartial(tokens: Tokens): Excerpt | null {
  if (!tokens.take('<')) return null;
  const from = tokens.number();
  tokens.expect('.');
  const most = tokens.number();
  if (most === 0) throw new SyntaxFault('A part has at least one octet');
  tokens.expect('>');
  return { from, most };
}
