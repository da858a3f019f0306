import { fieldsOf } from '../mime/header.ts';
import type { PlacedPart } from '../mime/outline.ts';
import { SyntaxFault, type Tokens } from './tokens.ts';

/** Which part of a message is meant, and what of it (RFC 3501 §6.4.5). */
export interface Section {
  /** Empty for the message itself. */
  path: number[];
  what: 'all' | 'header' | 'text' | 'mime' | 'fields' | 'other-fields';
  /** Names of fields, in lower case. */
  fields: string[];
}

const DEEPEST = 100;

/** Reads a section in brackets; `text` is how it is given back. */
export function readSection(tokens: Tokens): { section: Section; text: string } {
  tokens.expect('[');
  const path: number[] = [];
  let text = '';
  while (/\d/.test(tokens.peek())) {
    const number = tokens.number();
    if (number === 0 || path.length >= DEEPEST) throw new SyntaxFault('There is no such part');
    path.push(number);
    text += `${text === '' ? '' : '.'}${number}`;
    if (!tokens.take('.')) {
      tokens.expect(']');
      return { section: { path, what: 'all', fields: [] }, text };
    }
    if (!/[\dA-Za-z]/.test(tokens.peek())) throw new SyntaxFault('A part is missing');
  }
  if (tokens.take(']')) return { section: { path, what: 'all', fields: [] }, text };
  const name = tokens.match(/[A-Za-z.]+/y)?.toUpperCase() ?? '';
  const before = text === '' ? '' : `${text}.`;
  if (name === 'HEADER.FIELDS' || name === 'HEADER.FIELDS.NOT') {
    tokens.space();
    const fields = tokens.list(() => tokens.astring().toString('latin1'));
    tokens.expect(']');
    if (fields.some((one) => !/^[\x21-\x39\x3b-\x7e]{1,200}$/.test(one))) throw new SyntaxFault('Invalid field name');
    return {
      section: { path, what: name === 'HEADER.FIELDS' ? 'fields' : 'other-fields', fields: fields.map((one) => one.toLowerCase()) },
      text: `${before}${name} (${fields.map((one) => (/^[\w-]+$/.test(one) ? one.toUpperCase() : `"${one.replace(/["\\]/g, '\\$&')}"`)).join(' ')})`,
    };
  }
  const what = name === 'HEADER' ? 'header' : name === 'TEXT' ? 'text' : name === 'MIME' && path.length > 0 ? 'mime' : null;
  if (what === null) throw new SyntaxFault('There is no such section');
  tokens.expect(']');
  return { section: { path, what, fields: [] }, text: `${before}${name}` };
}

/** The part of a path; null when there is none. A message that is not made of parts has one, itself. */
export function partAt(root: PlacedPart, path: readonly number[]): PlacedPart | null {
  let part: PlacedPart | null = root;
  for (const [depth, number] of path.entries()) {
    // A message in a message has the parts of what it holds.
    const holder: PlacedPart | null = depth > 0 && part?.message ? part.message : part;
    if (!holder) return null;
    if (holder.children.length > 0) part = holder.children[number - 1] ?? null;
    else if (number !== 1 || (depth > 0 && holder === part)) return null;
    else part = holder;
    if (!part) return null;
  }
  return part;
}

/** Where a section lies in the text; null when there is none. `isHeader`: its fields are to be chosen. */
export function placeOf(root: PlacedPart, { path, what }: Section): { from: number; to: number; isWhole: boolean } | null {
  const part = partAt(root, path);
  if (!part) return null;
  const isRoot = path.length === 0;
  if (what === 'all') return isRoot ? { from: 0, to: part.end, isWhole: true } : { from: part.bodyStart, to: part.end, isWhole: false };
  if (what === 'mime') return { from: part.start, to: part.bodyStart, isWhole: false };
  // HEADER and TEXT are of a message: the whole, or one in a part.
  const message = isRoot ? part : part.message;
  if (!message) return null;
  if (what === 'text') return { from: message.bodyStart, to: message.end, isWhole: false };
  return { from: message.start, to: message.bodyStart, isWhole: isRoot };
}

/** Of a header the fields that are named, or all others, and the empty line (RFC 3501 §6.4.5). */
export function chosenFields(header: Buffer, { what, fields }: Section): string {
  const chosen = fieldsOf(header, 0, header.length).filter((one) => fields.includes(one.name) === (what === 'fields'));
  return `${chosen.map((one) => (one.raw.endsWith('\n') ? one.raw : `${one.raw}\r\n`)).join('')}\r\n`;
}
