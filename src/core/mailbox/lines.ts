/** What a line can show of a message: what stands in its row, and what its outline has for lists. */
export type LineColumn = 'uid' | 'sequence' | 'flags' | 'modseq' | 'internal-date' | 'size' | 'envelope' | 'body' | 'body-structure';
/** A line's text, and between it what it shows. */
export type LinePiece = { text: string } | { column: LineColumn };

/** Messages between two UIDs, both included. */
export interface LineRange {
  from: number;
  to: number;
  /** The sequence number of the first. */
  first: number;
  /** UIDs follow on one another: sequence numbers are counted from them, at less cost. */
  isDense: boolean;
}

/** Lines of all messages in a range, made by the database itself: to have each message as values would cost more than what is in it. */
export interface ComposedLines {
  messages: number;
  /** The highest of all these. */
  modseq: number;
  /** Null when of some nothing is known yet. */
  octets: Buffer | null;
}
