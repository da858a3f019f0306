/** RFC 5321 §4.4: the line that the delivering server puts before a message. */
const LINE = /^Return-Path: <[^\r\n]{0,998}>\r\n/;
const LONGEST = 1100;

/** A text without its Return-Path, which each mailbox has for itself; so the rest is shared. */
export function splitReturnPath(text: Buffer): { prefix: string; text: Buffer } {
  const [prefix = ''] = LINE.exec(text.toString('latin1', 0, LONGEST)) ?? [];
  return { prefix, text: text.subarray(prefix.length) };
}

/** The sender in a Return-Path; empty where there is none. */
export const senderOf = (prefix: string): string => /^Return-Path: <([^\r\n]*)>/.exec(prefix)?.[1] ?? '';
