import { createHmac, timingSafeEqual } from 'node:crypto';

/** What two hosts tell each other once; neither the code nor a secret key is in it. */
export interface Introduced {
  name: string;
  /** Where it is asked; null where it only asks. */
  url: string | null;
  publicKey: string;
}

/** Proves by the one-time code that these are the words of who has it: of the first who speaks, or of who answers to that key. */
export const introductionProof = (code: string, { name, url, publicKey }: Introduced, answersTo: string | null): string =>
  createHmac('sha256', code)
    .update(JSON.stringify(['tenedor witness', answersTo, name, url, publicKey]))
    .digest('base64');

export function isProof(given: string, expected: string): boolean {
  const [one, other] = [Buffer.from(given), Buffer.from(expected)];
  return one.length === other.length && timingSafeEqual(one, other);
}
