import type { RemoteReply } from './client-intents.ts';

/** Octets of one reply. */
export const LONGEST_REPLY = 64 * 1024;
const MOST_LINES = 200;
/** What is said of a reply beyond these. */
export const ENDLESS = 'the server’s reply does not end';

/** Puts whole replies of a server together, line by line and within bounds (RFC 5321 §4.2). */
export class ReplyReader {
  private lines: string[] = [];

  /** The reply that ends in this line, null while more of it follows, or what is wrong with it. */
  push(line: string): { reply: RemoteReply; lines: string[] } | null | string {
    const found = /^([2-5]\d\d)([ -]?)(.*)$/.exec(line);
    if (!found) return `the server’s answer is not a valid reply: ${JSON.stringify(line.slice(0, 80))}`;
    this.lines.push(found[3] ?? '');
    if (this.lines.length > MOST_LINES) return ENDLESS;
    if (found[2] === '-') return null;
    const { lines } = this;
    this.lines = [];
    const text = lines
      .join(' ')
      .replace(/[^\x20-\x7e]/g, '?')
      .slice(0, 500);
    return { reply: { code: Number(found[1]), text }, lines };
  }
}

/** What is said of a reply to which no command belongs, or of which none may be believed. */
export const outOfStep = ({ code, text }: RemoteReply): string => `the server’s replies are out of step: ${code} ${text}`;

/** The one reply that was heard, null while it has not come whole, or what is wrong: whatever follows it was said unasked. */
export function onlyReply(heard: string): RemoteReply | null | string {
  const reader = new ReplyReader();
  for (let at = 0, end = heard.indexOf('\n'); end >= 0; at = end + 1, end = heard.indexOf('\n', at)) {
    const found = reader.push(heard.slice(at, end).replace(/\r$/, ''));
    if (typeof found === 'string') return found;
    if (found) return end + 1 < heard.length ? outOfStep(found.reply) : found.reply;
  }
  return heard.length > LONGEST_REPLY ? ENDLESS : null;
}
