/** RFC 5321 §4.4: the line that the delivering server puts before a message. */
const LINE = /^Return-Path: <[^\r\n]{0,998}>\r\n$/;
const LONGEST = 4100;

/** A text without its Return-Path, which each mailbox has for itself; so the rest is shared. One that is no UTF-8 (RFC 6532) stays where it is. */
export function splitReturnPath(text: Buffer): { prefix: string; text: Buffer } {
  const end = text.subarray(0, LONGEST).indexOf('\r\n') + 2;
  const octets = text.subarray(0, end);
  const prefix = octets.toString('utf8');
  return end > 1 && LINE.test(prefix) && Buffer.from(prefix).equals(octets) ? { prefix, text: text.subarray(end) } : { prefix: '', text };
}

/** The sender in a Return-Path; empty where there is none. */
export const senderOf = (prefix: string): string => /^Return-Path: <([^\r\n]*)>/.exec(prefix)?.[1] ?? '';
