import { scryptSync, timingSafeEqual } from 'node:crypto';
import { argon2Verify, bcryptVerify } from 'hash-wasm';
import { verify } from 'unixcrypt';
import type { HashQuestion } from './given-hashes.ts';

/** What the thread that compares with given hashes does: here they would keep everybody waiting. */
export const hashWork = (): { answer: (question: HashQuestion) => Promise<boolean> } => ({
  // A hash of the right form that says nothing: no password is right by it.
  answer: ({ password, kept }) => matches(password, kept).catch(() => false),
});

async function matches(password: string, kept: string): Promise<boolean> {
  if (password === '') return false;
  if (kept.startsWith('$argon2')) return argon2Verify({ password, hash: kept });
  if (kept.startsWith('$2')) return bcryptVerify({ password: Buffer.from(password).subarray(0, 72), hash: kept });
  return kept.startsWith('$scrypt') ? scryptMatches(password, kept) : verify(password, kept);
}

function scryptMatches(password: string, kept: string): boolean {
  const [, , costs = '', salt = '', key = ''] = kept.split('$');
  const [ln = 0, r = 0, p = 0] = costs.split(',').map((one) => Number(one.slice(one.indexOf('=') + 1)));
  const expected = Buffer.from(key, 'base64');
  const derived = scryptSync(password, Buffer.from(salt, 'base64'), expected.length, { N: 2 ** ln, r, p, maxmem: 256 * 1024 * 1024 });
  return timingSafeEqual(derived, expected);
}
