/**
 * RFC 4155 Appendix A: a line that begins a message, with a sender and a whole date, in the order of ctime or that of a message's Date. “From Monday on,
 * 10:30, …” in a text has none.
 */
const TIME = String.raw`\d{1,2}:\d{2}(?::\d{2})?`;
const ZONE = String.raw`(?: +(?:[+-]\d{4}|[A-Z]{2,5}))?`;
const SEPARATOR = new RegExp(
  String.raw`^From .*\b(?:Sun|Mon|Tue|Wed|Thu|Fri|Sat),? +(?:[A-Z][a-z]{2} +\d{1,2} +${TIME}${ZONE} +\d{4}|\d{1,2} +[A-Z][a-z]{2} +\d{4} +${TIME})`,
);
/** So much of a line is looked at. */
const LONGEST_HEAD = 300;
const LF = 10;
const CR = 13;

export type MboxItem =
  | { kind: 'message'; text: Buffer /** The time of the separator in ms; null where it says none that can be read. */; at: number | null }
  /** Longer than is taken; it was passed over. */
  | { kind: 'too-large'; size: number };

/** Takes an mbox apart, piece by piece, in linear time; never keeps more than one message. */
export class MboxReader {
  private parts: Buffer[] = [];
  private size = 0;
  /** The begin of the line that is not over yet. */
  private head = '';
  /** Where it begins in this message. */
  private lineAt = 0;
  private lineLength = 0;
  private wasBlank = true;
  private isBegun = false;
  private at: number | null = null;

  constructor(private readonly mostOctets: number) {}

  /** What is whole now. Throws NotMbox when the first line begins no message. */
  push(chunk: Buffer): MboxItem[] {
    const done: MboxItem[] = [];
    let from = 0;
    for (let place = 0; place < chunk.length; ) {
      const end = chunk.indexOf(LF, place);
      const upTo = end < 0 ? chunk.length : end + 1;
      if (this.head.length < LONGEST_HEAD)
        this.head += chunk.toString('latin1', place, Math.min(upTo, place + LONGEST_HEAD - this.head.length));
      this.lineLength += upTo - place;
      place = upTo;
      if (end < 0) break;
      if (this.wasBlank && SEPARATOR.test(this.head)) {
        this.keep(chunk.subarray(from, place));
        if (this.isBegun) done.push(this.cut());
        this.isBegun = true;
        this.at = timeOf(this.head);
        this.parts = [];
        this.size = 0;
        from = place;
        this.wasBlank = false;
      } else {
        if (!this.isBegun) throw new NotMbox();
        this.wasBlank = this.head === '\n' || this.head === '\r\n';
      }
      this.lineAt = this.size + (place - from);
      this.lineLength = 0;
      this.head = '';
    }
    this.keep(chunk.subarray(from));
    if (!this.isBegun && this.lineLength >= LONGEST_HEAD && !this.head.startsWith('From ')) throw new NotMbox();
    return done;
  }

  /** The last message. */
  end(): MboxItem[] {
    if (!this.isBegun && this.size > 0) throw new NotMbox();
    if (!this.isBegun) return [];
    this.lineAt = this.size;
    return [this.cut()];
  }

  private keep(some: Buffer): void {
    this.size += some.length;
    // The line in work may begin the next message, so a little more is kept than is taken.
    if (this.size > this.mostOctets + LONGEST_HEAD + 2) this.parts = [];
    else this.parts.push(some);
  }

  /** The message up to the line in work; the empty line before a separator is not of it. */
  private cut(): MboxItem {
    if (this.lineAt > this.mostOctets || this.parts.length === 0) {
      if (this.lineAt > 0) return { kind: 'too-large', size: this.lineAt };
      return { kind: 'message', text: Buffer.alloc(0), at: this.at };
    }
    let text = Buffer.concat(this.parts).subarray(0, this.lineAt);
    if (isBlankAtEnd(text)) text = text.subarray(0, text.at(-2) === CR ? -2 : -1);
    return { kind: 'message', text: unquoted(text), at: this.at };
  }
}

/** What is read is no mbox. */
export class NotMbox extends Error {
  constructor() {
    super('It does not begin like an mbox (RFC 4155).');
  }
}

const isBlankAtEnd = (text: Buffer): boolean =>
  text.at(-1) === LF && (text.at(-2) === LF || (text.at(-2) === CR && (text.at(-3) === LF || text.length === 2)) || text.length === 1);

const unquoted = (text: Buffer): Buffer =>
  Buffer.from(
    text
      .toString('latin1')
      .replace(/^>(>*From )/gm, '$1')
      .replace(/\r?\n/g, '\r\n'),
    'latin1',
  );

/** RFC 4155: `Fri Nov 27 12:05:31 2026`, in UTC; some write a zone before the year, or after it. */
function timeOf(line: string): number | null {
  const [, month = '', day, hour, minute, second = '0', zone, year, late] =
    /([A-Z][a-z]{2}) +(\d{1,2}) (\d{1,2}):(\d{2})(?::(\d{2}))?(?: ([+-]\d{4}))?(?: [A-Z]{3,4})? (\d{4})(?: ([+-]\d{4}))?\s*$/.exec(line) ??
    [];
  const place = MONTHS.indexOf(month);
  if (place < 0) return null;
  const at = Date.UTC(Number(year), place, Number(day), Number(hour), Number(minute), Number(second));
  const ahead = zone ?? late ?? '+0000';
  const minutes = Number(ahead.slice(1, 3)) * 60 + Number(ahead.slice(3));
  return at - (ahead.startsWith('-') ? -1 : 1) * minutes * 60_000;
}

const MONTHS = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec'];
const DAYS = ['Sun', 'Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat'];

/** A message as it stands in an mbox (RFC 4155 Appendix A): lines end with LF, and what looks like a separator gets a `>`, as does what has some already. */
export function mboxEntry(text: Buffer, sender: string, at: number): Buffer {
  const time = new Date(at);
  const two = (value: number): string => String(value).padStart(2, '0');
  const said = `${DAYS[time.getUTCDay()]} ${MONTHS[time.getUTCMonth()]} ${String(time.getUTCDate()).padStart(2, ' ')} ${two(time.getUTCHours())}:${two(time.getUTCMinutes())}:${two(time.getUTCSeconds())} ${time.getUTCFullYear()}`;
  const body = text
    .toString('latin1')
    .replaceAll('\r\n', '\n')
    .replace(/^(>*From )/gm, '>$1');
  const from = /^[\x21-\x7e]+$/.test(sender) ? sender : 'MAILER-DAEMON';
  return Buffer.from(`From ${from} ${said}\n${body}${body.endsWith('\n') || body === '' ? '' : '\n'}\n`, 'latin1');
}
