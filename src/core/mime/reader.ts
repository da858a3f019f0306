import { fieldsOf, firstField, type HeaderField } from './header.ts';
import { continued, type Parametrised, readParametrised } from './parameters.ts';

/** One part of a message, by places in its text. The whole message is one, too. */
export interface Part {
  /** Where its header begins. */
  start: number;
  /** Where its body begins: after the empty line. */
  bodyStart: number;
  /** Where it ends: before the line end that belongs to the boundary. */
  end: number;
  fields: HeaderField[];
  /** In lower case. */
  type: string;
  subtype: string;
  contentType: Parametrised;
  /** In lower case; `7bit` where nothing is said. */
  encoding: string;
  /** Line ends in the body. */
  lines: number;
  /** Of a multipart: at least one. */
  children: Part[];
  /** Of a message in a message. */
  message: Part | null;
}

/** What lies deeper is not looked into. */
const DEEPEST = 40;
/** What comes after so many parts is part of the last. */
const MOST_PARTS = 2000;
/** RFC 2046 §5.1.1 says 70; some say more. */
const LONGEST_BOUNDARY = 250;
/** Octets between two counts of lines. */
const BLOCK = 4096;
/** Lines that are looked at, or octets that are counted, in one step. */
const LINES_AT_ONCE = 5000;
const OCTETS_AT_ONCE = 1024 * 1024;

interface Delimiter {
  /** Where its line begins. */
  at: number;
  /** Where the next line begins. */
  after: number;
  boundary: string;
  isClose: boolean;
}

/**
 * Reads the structure of a message (RFC 2045, 2046) in one pass, whatever is wrong with it: boundaries that are missing or never closed, no header, no
 * body, nesting without end. A boundary of something outside ends whatever is inside.
 */
export function readMime(text: Buffer): Part {
  const reading = readMimeInSteps(text);
  for (;;) {
    const step = reading.next();
    if (step.done) return step.value;
  }
}

/** As `readMime`, in steps of some milliseconds each, between which others may have a turn. */
export const readMimeInSteps = (text: Buffer): Steps<Part> => new MimeReader(text).read();

/** Work that pauses now and then, and ends with a result. */
export type Steps<Result> = Generator<undefined, Result, undefined>;

class MimeReader {
  /** Boundaries that are open, the innermost last; an empty one for a message in a message. */
  private readonly boundaries: string[] = [];
  private readonly open = new Map<string, number>();
  /** How many of them begin with each octet: a line is read only where one could stand there. */
  private readonly begins = new Uint16Array(256);
  private readonly lineEnds: LineEnds;
  private parts = 0;
  /** Lines until the next pause. */
  private left = LINES_AT_ONCE;
  /** What ended the part that was read last; null for the end of the text. */
  private ended: Delimiter | null = null;

  constructor(private readonly text: Buffer) {
    this.lineEnds = new LineEnds(text);
  }

  *read(): Steps<Part> {
    return yield* this.part(0, 'text', 'plain');
  }

  /** Reads the part that begins there, up to a boundary that is open, or the end. */
  private *part(start: number, usualType: string, usualSubtype: string): Steps<Part> {
    this.parts += 1;
    const header = yield* this.header(start);
    const { fields } = header;
    const contentType = readParametrised(firstField(fields, 'content-type') ?? '');
    const [, type = usualType, subtype = usualSubtype] =
      /^([!#$%&'*+.^_`|~0-9a-z-]+)\/([!#$%&'*+.^_`|~0-9a-z-]+)$/i.exec(contentType.value) ?? [];
    const part: Part = {
      start,
      bodyStart: header.end,
      end: header.end,
      fields,
      type: type.toLowerCase(),
      subtype: subtype.toLowerCase(),
      contentType,
      encoding: (/^[^\s;()]+/.exec(firstField(fields, 'content-transfer-encoding') ?? '')?.[0] ?? '7bit').toLowerCase(),
      lines: 0,
      children: [],
      message: null,
    };
    const mayNest = this.boundaries.length < DEEPEST && this.parts < MOST_PARTS;
    const boundary = continued(contentType.parameters).find(([name]) => name.toLowerCase() === 'boundary')?.[1];
    if (header.delimiter) {
      // The header was never ended: the boundary ends both.
      this.ended = header.delimiter;
      part.bodyStart = header.delimiter.at;
      part.end = this.before(part.bodyStart, header.delimiter.at);
      part.bodyStart = Math.min(part.bodyStart, part.end);
    } else if (part.type === 'multipart' && boundary !== undefined && boundary !== '' && boundary.length <= LONGEST_BOUNDARY && mayNest)
      yield* this.children(part, boundary.trimEnd());
    else if (part.type === 'message' && (part.subtype === 'rfc822' || part.subtype === 'global') && isIdentity(part.encoding) && mayNest) {
      // Deep chains of messages count as nesting, too.
      this.begin('');
      part.message = yield* this.part(part.bodyStart, 'text', 'plain');
      this.leave();
      part.end = part.message.end;
    } else yield* this.leaf(part);
    // What can't be looked into is what it would be to anybody else.
    if (part.type === 'multipart' && part.children.length === 0) [part.type, part.subtype] = ['application', 'octet-stream'];
    if (part.type === 'message' && part.message === null && (part.subtype === 'rfc822' || part.subtype === 'global'))
      [part.type, part.subtype] = ['application', 'octet-stream'];
    if (part.type === 'text' || part.message) part.lines = yield* this.lineEnds.between(part.bodyStart, part.end);
    return part;
  }

  private *leaf(part: Part): Steps<void> {
    this.ended = yield* this.delimiter(part.bodyStart);
    part.end = this.ended ? this.before(part.bodyStart, this.ended.at) : this.text.length;
  }

  private *children(part: Part, boundary: string): Steps<void> {
    this.begin(boundary);
    const usual = part.subtype === 'digest' ? (['message', 'rfc822'] as const) : (['text', 'plain'] as const);
    // What stands before the first boundary is for programs that know no MIME.
    this.ended = yield* this.delimiter(part.bodyStart);
    while (this.ended?.boundary === boundary && !this.ended.isClose && this.parts < MOST_PARTS)
      part.children.push(yield* this.part(this.ended.after, usual[0], usual[1]));
    this.leave();
    const last = this.ended as Delimiter | null;
    if (last?.boundary === boundary && !this.open.has(boundary)) this.ended = yield* this.delimiter(last.after);
    const ended = this.ended as Delimiter | null;
    part.end = ended ? this.before(part.bodyStart, ended.at) : this.text.length;
  }

  /** The header that begins there: to the empty line, to a boundary that is open, or to the end. */
  private *header(start: number): Steps<{ fields: HeaderField[]; end: number; delimiter: Delimiter | null }> {
    for (let at = start; ; ) {
      if (this.isTime()) yield;
      const delimiter = this.delimiterAt(at);
      if (delimiter) return { fields: fieldsOf(this.text, start, at), end: at, delimiter };
      const lineEnd = this.text.indexOf(0x0a, at);
      if (lineEnd < 0) return { fields: fieldsOf(this.text, start, this.text.length), end: this.text.length, delimiter: null };
      const isEmpty = lineEnd === at || (lineEnd === at + 1 && this.text[at] === 0x0d);
      if (isEmpty) return { fields: fieldsOf(this.text, start, at), end: lineEnd + 1, delimiter: null };
      at = lineEnd + 1;
    }
  }

  /** The first line from there on (where a line begins) that is a boundary which is open. */
  private *delimiter(from: number): Steps<Delimiter | null> {
    if (this.open.size === 0) return null;
    for (let at = from; ; ) {
      if (this.isTime()) yield;
      const found = this.delimiterAt(at);
      if (found) return found;
      const next = yield* this.dashes(at);
      if (next < 0) return null;
      at = next + 1;
    }
  }

  /** The next line end with two dashes behind it; -1 where there is none. */
  private *dashes(from: number): Steps<number> {
    // Most often it is the next one, or far away.
    const next = this.text.indexOf(0x0a, from);
    if (next < 0 || (this.text[next + 1] === 0x2d && this.text[next + 2] === 0x2d)) return next;
    for (let at = next; at < this.text.length; at += OCTETS_AT_ONCE) {
      if (at > next) yield;
      const found = this.text.subarray(at, at + OCTETS_AT_ONCE + 2).indexOf('\n--', 0, 'latin1');
      if (found >= 0) return at + found;
    }
    return -1;
  }

  private isTime(): boolean {
    this.left -= 1;
    if (this.left > 0) return false;
    this.left = LINES_AT_ONCE;
    return true;
  }

  private delimiterAt(at: number): Delimiter | null {
    const { text } = this;
    if (text[at] !== 0x2d || text[at + 1] !== 0x2d || !this.begins[text[at + 2] ?? 0]) return null;
    const lineEnd = text.indexOf(0x0a, at);
    const end = lineEnd < 0 ? text.length : lineEnd;
    // A line that is longer than any boundary with its dashes and some blanks is none.
    if (end - at > LONGEST_BOUNDARY + 100) return null;
    const line = text.toString('latin1', at + 2, end).replace(/[\s]+$/, '');
    const after = lineEnd < 0 ? text.length : lineEnd + 1;
    if (this.open.has(line)) return { at, after, boundary: line, isClose: false };
    const closed = line.endsWith('--') ? line.slice(0, -2) : '';
    if (this.open.has(closed)) return { at, after, boundary: closed, isClose: true };
    return null;
  }

  /** RFC 2046 §5.1.1: the line end before a boundary belongs to it. */
  private before(start: number, at: number): number {
    let end = at;
    if (end > start && this.text[end - 1] === 0x0a) end -= 1;
    if (end > start && this.text[end - 1] === 0x0d) end -= 1;
    return end;
  }

  private begin(boundary: string): void {
    this.boundaries.push(boundary);
    if (boundary === '') return;
    this.open.set(boundary, (this.open.get(boundary) ?? 0) + 1);
    this.begins[boundary.charCodeAt(0) % 256] = (this.begins[boundary.charCodeAt(0) % 256] as number) + 1;
  }

  private leave(): void {
    const boundary = this.boundaries.pop() ?? '';
    if (boundary === '') return;
    this.begins[boundary.charCodeAt(0) % 256] = (this.begins[boundary.charCodeAt(0) % 256] as number) - 1;
    const left = (this.open.get(boundary) ?? 1) - 1;
    if (left > 0) this.open.set(boundary, left);
    else this.open.delete(boundary);
  }
}

/** How many lines end between two places: counted once, so that messages in messages cost nothing more. */
class LineEnds {
  private before: Uint32Array | null = null;

  constructor(private readonly text: Buffer) {}

  *between(start: number, end: number): Steps<number> {
    const before = this.before ?? (yield* this.counted());
    this.before = before;
    return this.upTo(before, end) - this.upTo(before, start);
  }

  private upTo(before: Uint32Array, place: number): number {
    const block = Math.floor(place / BLOCK);
    let lines = before[block] as number;
    for (let at = block * BLOCK; at < place; at += 1) if (this.text[at] === 0x0a) lines += 1;
    return lines;
  }

  private *counted(): Steps<Uint32Array> {
    const before = new Uint32Array(Math.floor(this.text.length / BLOCK) + 2);
    let lines = 0;
    for (let at = 0; at < this.text.length; at += 1) {
      if (at % OCTETS_AT_ONCE === 0 && at > 0) yield;
      if (at % BLOCK === 0) before[at / BLOCK] = lines;
      if (this.text[at] === 0x0a) lines += 1;
    }
    if (this.text.length % BLOCK === 0) before[this.text.length / BLOCK] = lines;
    return before;
  }
}

const isIdentity = (encoding: string): boolean => encoding === '7bit' || encoding === '8bit' || encoding === 'binary';
