import { trimmed } from '../message/fields.ts';

export type Canonicalisation = 'simple' | 'relaxed';

/** A header field in canonical form, without its final CRLF (RFC 6376 §3.4.1, §3.4.2). */
export function canonicalField(raw: string, how: Canonicalisation): string {
  if (how === 'simple') return raw;
  const colon = raw.indexOf(':');
  const name = raw.slice(0, colon).trim().toLowerCase();
  const value = trimmed(oneSpace(raw.slice(colon + 1).replaceAll('\r\n', '')));
  return `${name}:${value}`;
}

/** Each run of spaces and tabs as one space; most text needs no change. */
const oneSpace = (text: string): string => (text.includes('  ') || text.includes('\t') ? text.replace(/\t[ \t]*| [ \t]+/g, ' ') : text);

/** Brings a body into canonical form piece by piece (RFC 6376 §3.4.3, §3.4.4). Octets are kept one to one as latin1. */
export class BodyCanonicaliser {
  /** The line that has no end yet. */
  private line = '';
  /** Line ends that only count when something follows them. */
  private heldBack = 0;
  private begun = false;

  constructor(
    private readonly how: Canonicalisation,
    private readonly emit: (text: string) => void,
  ) {}

  push(bytes: Buffer): void {
    const text = this.line + bytes.toString('latin1');
    const end = text.lastIndexOf('\r\n') + 2;
    if (end < 2) {
      this.line = text;
      return;
    }
    this.line = text.slice(end);
    this.lines(text.slice(0, end));
  }

  finish(): void {
    if (this.line !== '') this.lines(this.line);
    if (this.begun || this.how === 'simple') this.emit('\r\n');
  }

  private lines(text: string): void {
    let canonical = text;
    if (this.how === 'relaxed') {
      canonical = oneSpace(canonical).replaceAll(' \r\n', '\r\n');
      if (canonical.endsWith(' ')) canonical = canonical.slice(0, -1);
    }
    let end = canonical.length;
    while (canonical.endsWith('\r\n', end)) end -= 2;
    const after = (canonical.length - end) / 2;
    if (end > 0) {
      if (this.heldBack > 0) this.emit('\r\n'.repeat(this.heldBack));
      this.emit(canonical.slice(0, end));
      this.begun = true;
      this.heldBack = after;
    } else this.heldBack += after;
  }
}

/** A whole body in canonical form. */
export function canonicalBody(body: Buffer, how: Canonicalisation): Buffer {
  const pieces: string[] = [];
  const canonicaliser = new BodyCanonicaliser(how, (text) => pieces.push(text));
  canonicaliser.push(body);
  canonicaliser.finish();
  return Buffer.from(pieces.join(''), 'latin1');
}
