import type { WireStep } from './client-intents.ts';

/** Replies below 400 that fit what was asked (RFC 5321 §4.3.2); anything else ends the conversation. */
export const EXPECTED: Partial<Record<WireStep, readonly number[]>> = {
  mail: [250],
  recipients: [250, 251, 252],
  data: [354],
  content: [250],
  reset: [250],
};

/** `AUTH PLAIN LOGIN` → AUTH, `PLAIN LOGIN`. */
export function offerOf(line: string): [string, string] {
  const [word = '', ...rest] = line.split(' ');
  return [word.toUpperCase(), rest.join(' ')];
}

export const base64 = (text: string): string => Buffer.from(text).toString('base64');
