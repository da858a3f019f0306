import { createHash } from 'node:crypto';
import { BodyCanonicaliser, type Canonicalisation } from './canonical.ts';

/** The SHA-256 of a canonical body, of the whole and of beginnings (`l=`, RFC 6376 §3.5), in one pass over the body. */
export class BodyHash {
  private readonly hash = createHash('sha256');
  private readonly canonicaliser: BodyCanonicaliser;
  private readonly marks: number[];
  private readonly digests = new Map<number, string>();
  private length = 0;

  /** Octets of the canonical body so far; of all of it after `finish`. */
  get octets(): number {
    return this.length;
  }

  /** `lengths` are the beginnings that are wanted, in octets. */
  constructor(how: Canonicalisation, lengths: readonly number[]) {
    this.marks = [...new Set(lengths)].sort((one, other) => one - other);
    this.canonicaliser = new BodyCanonicaliser(how, (text) => this.add(Buffer.from(text, 'latin1')));
    this.passMarks();
  }

  push(bytes: Buffer): void {
    this.canonicaliser.push(bytes);
  }

  /** The digest in base64 of the first `length` octets, or of all; null when the body is shorter than that. */
  finish(): (length: number | null) => string | null {
    this.canonicaliser.finish();
    const whole = this.hash.copy().digest('base64');
    return (length) => (length === null ? whole : (this.digests.get(length) ?? null));
  }

  private add(bytes: Buffer): void {
    let rest = bytes;
    while (this.marks[0] !== undefined && this.marks[0] <= this.length + rest.length) {
      const upTo = this.marks[0] - this.length;
      this.hash.update(rest.subarray(0, upTo));
      this.length += upTo;
      rest = rest.subarray(upTo);
      this.passMarks();
    }
    this.hash.update(rest);
    this.length += rest.length;
  }

  private passMarks(): void {
    while (this.marks[0] === this.length) this.digests.set(this.marks.shift() ?? 0, this.hash.copy().digest('base64'));
  }
}
