import { ANSWERED, DELETED, DRAFT, FLAGGED, SEEN } from '../mailbox/flags.ts';
import type { Range } from '../mailbox/uid-set.ts';
import { decoded } from '../mime/words.ts';
import { readSequenceSet, SyntaxFault, type Tokens } from './tokens.ts';

/** What messages are looked for by (RFC 3501 §6.4.4 and its extensions). Texts are in small letters. */
export type SearchKey =
  | { kind: 'all' }
  | { kind: 'and' | 'or'; keys: SearchKey[] }
  | { kind: 'not'; key: SearchKey }
  | { kind: 'sequence' | 'uid'; set: Range[] | '$' }
  | { kind: 'flag'; bit: number; isSet: boolean }
  | { kind: 'keyword'; name: string; isSet: boolean }
  | { kind: 'size'; compare: 'larger' | 'smaller'; octets: number }
  /** By days, in ms: from the first to before the last. */
  | { kind: 'date'; of: 'internal' | 'sent' | 'saved'; from: number; before: number }
  /** Seconds (RFC 5032). */
  | { kind: 'age'; compare: 'older' | 'younger'; seconds: number }
  | { kind: 'header'; name: string; text: string }
  | { kind: 'body' | 'text'; text: string }
  | { kind: 'modseq'; least: number }
  | { kind: 'email-id' | 'thread-id'; id: string };

const DEEPEST = 50;
const MOST_KEYS = 1000;
/** Each is looked for in the whole of a message. */
const MOST_TEXTS = 50;
const DAY = 86_400_000;
const MONTHS = ['jan', 'feb', 'mar', 'apr', 'may', 'jun', 'jul', 'aug', 'sep', 'oct', 'nov', 'dec'];

const FLAG_KEYS: Record<string, [bit: number, isSet: boolean]> = {
  ANSWERED: [ANSWERED, true],
  DELETED: [DELETED, true],
  DRAFT: [DRAFT, true],
  FLAGGED: [FLAGGED, true],
  SEEN: [SEEN, true],
  UNANSWERED: [ANSWERED, false],
  UNDELETED: [DELETED, false],
  UNDRAFT: [DRAFT, false],
  UNFLAGGED: [FLAGGED, false],
  UNSEEN: [SEEN, false],
};
const HEADER_KEYS = ['BCC', 'CC', 'FROM', 'SUBJECT', 'TO'];
const DATE_KEYS: Record<string, ['internal' | 'sent' | 'saved', 'on' | 'before' | 'since']> = {
  BEFORE: ['internal', 'before'],
  ON: ['internal', 'on'],
  SINCE: ['internal', 'since'],
  SENTBEFORE: ['sent', 'before'],
  SENTON: ['sent', 'on'],
  SENTSINCE: ['sent', 'since'],
  SAVEDBEFORE: ['saved', 'before'],
  SAVEDON: ['saved', 'on'],
  SAVEDSINCE: ['saved', 'since'],
};

/** Charsets in which texts may be looked for. */
export const CHARSETS = ['US-ASCII', 'UTF-8', 'ISO-8859-1', 'ISO-8859-15', 'WINDOWS-1252'];

/** Reads keys up to the end of the command. */
export function readSearchKeys(tokens: Tokens, charset: string): SearchKey {
  return new KeyReader(tokens, charset).all();
}

class KeyReader {
  private count = 0;
  private texts = 0;

  constructor(
    private readonly tokens: Tokens,
    private readonly charset: string,
  ) {}

  all(): SearchKey {
    const keys = [this.key(0)];
    while (!this.tokens.isAtEnd) {
      this.tokens.space();
      keys.push(this.key(0));
    }
    return joined(keys);
  }

  private key(depth: number): SearchKey {
    const { tokens } = this;
    this.count += 1;
    if (depth > DEEPEST || this.count > MOST_KEYS) throw new SyntaxFault('The search is too large');
    if (tokens.peek() === '(') return joined(tokens.list(() => this.key(depth + 1)));
    if (/[\d*$]/.test(tokens.peek())) return { kind: 'sequence', set: tokens.sequenceSet() };
    const name = tokens.word();
    const flag = FLAG_KEYS[name];
    if (flag) return { kind: 'flag', bit: flag[0], isSet: flag[1] };
    if (HEADER_KEYS.includes(name)) return { kind: 'header', name: name.toLowerCase(), text: this.text() };
    const date = DATE_KEYS[name];
    if (date) return this.date(...date);
    switch (name) {
      case 'ALL':
        return { kind: 'all' };
      // No message is recent here, so all are old (RFC 9051 has done away with both).
      case 'OLD':
        return { kind: 'all' };
      case 'NEW':
      case 'RECENT':
        return { kind: 'not', key: { kind: 'all' } };
      case 'SAVEDATESUPPORTED':
        return { kind: 'all' };
      case 'NOT':
        tokens.space();
        return { kind: 'not', key: this.key(depth + 1) };
      case 'OR': {
        tokens.space();
        const one = this.key(depth + 1);
        tokens.space();
        return { kind: 'or', keys: [one, this.key(depth + 1)] };
      }
      case 'KEYWORD':
      case 'UNKEYWORD':
        tokens.space();
        return { kind: 'keyword', name: tokens.word().toLowerCase(), isSet: name === 'KEYWORD' };
      case 'LARGER':
      case 'SMALLER':
        tokens.space();
        return { kind: 'size', compare: name === 'LARGER' ? 'larger' : 'smaller', octets: tokens.number() };
      case 'OLDER':
      case 'YOUNGER':
        tokens.space();
        return { kind: 'age', compare: name === 'OLDER' ? 'older' : 'younger', seconds: tokens.number() };
      case 'HEADER': {
        tokens.space();
        const field = tokens.astring().toString('latin1').toLowerCase();
        return { kind: 'header', name: field, text: this.text() };
      }
      case 'BODY':
        return { kind: 'body', text: this.text() };
      case 'TEXT':
        return { kind: 'text', text: this.text() };
      case 'UID': {
        tokens.space();
        return { kind: 'uid', set: tokens.sequenceSet() };
      }
      case 'MODSEQ':
        return this.modseq();
      case 'EMAILID':
      case 'THREADID':
        tokens.space();
        return { kind: name === 'EMAILID' ? 'email-id' : 'thread-id', id: tokens.astring().toString('latin1') };
      default:
        // A set may begin with a number alone.
        if (/^[\d:*,]+$/.test(name)) return { kind: 'sequence', set: readSequenceSet(name) };
        throw new SyntaxFault(`${name.slice(0, 40)} is not a search key`);
    }
  }

  private text(): string {
    this.texts += 1;
    if (this.texts > MOST_TEXTS) throw new SyntaxFault('The search is too large');
    this.tokens.space();
    return decoded(this.tokens.astring(), this.charset).normalize('NFC').toLowerCase();
  }

  private date(of: 'internal' | 'sent' | 'saved', how: 'on' | 'before' | 'since'): SearchKey {
    this.tokens.space();
    const text = this.tokens.astring().toString('latin1');
    const found = /^(\d{1,2})-([a-z]{3})-(\d{4})$/i.exec(text);
    const month = MONTHS.indexOf(found?.[2]?.toLowerCase() ?? '');
    if (!found || month < 0) throw new SyntaxFault('Invalid date');
    const day = Date.UTC(Number(found[3]), month, Number(found[1]));
    return {
      kind: 'date',
      of,
      from: how === 'before' ? Number.NEGATIVE_INFINITY : day,
      before: how === 'since' ? Number.POSITIVE_INFINITY : how === 'on' ? day + DAY : day,
    };
  }

  /** RFC 7162 §3.1.5: with or without an entry, which means nothing here. */
  private modseq(): SearchKey {
    const { tokens } = this;
    tokens.space();
    if (tokens.peek() === '"') {
      tokens.octets();
      tokens.space();
      tokens.word();
      tokens.space();
    }
    return { kind: 'modseq', least: tokens.modseq() };
  }
}

const joined = (keys: SearchKey[]): SearchKey => (keys.length === 1 ? (keys[0] as SearchKey) : { kind: 'and', keys });

/** All keys that a key consists of, however deep. */
export function* keysIn(key: SearchKey): Generator<SearchKey> {
  yield key;
  if (key.kind === 'not') yield* keysIn(key.key);
  else if (key.kind === 'and' || key.kind === 'or') for (const one of key.keys) yield* keysIn(one);
}
