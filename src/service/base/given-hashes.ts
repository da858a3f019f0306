import { ThreadCalls, threadProgram } from '../../threads/calls.ts';
import { passwordMatches } from './secrets.ts';

/**
 * Password hashes that somebody brings from another server, in crypt's form or the PHC string format: argon2 (RFC 9106), scrypt (RFC 7914), SHA-crypt and
 * bcrypt by their published specifications. The bounds keep one comparison within a second and 128 MiB.
 */
const SCHEMES: { form: RegExp; most: readonly number[]; least: readonly number[] }[] = [
  // $argon2id$v=19$m=65536,t=3,p=4$salt$hash: memory in KiB, passes, lanes
  {
    form: /^\$argon2id\$v=19\$m=(\d{1,7}),t=(\d{1,3}),p=(\d{1,3})\$[A-Za-z0-9+/]{8,64}\$[A-Za-z0-9+/]{16,128}$/,
    least: [8, 1, 1],
    most: [131_072, 16, 16],
  },
  // $scrypt$ln=15,r=8,p=1$salt$hash: the exponent of the cost
  {
    form: /^\$scrypt\$ln=(\d{1,2}),r=(\d{1,2}),p=(\d{1,2})\$[A-Za-z0-9+/]{8,64}\$[A-Za-z0-9+/]{22,128}$/,
    least: [1, 1, 1],
    most: [16, 16, 4],
  },
  // $6$rounds=5000$salt$hash
  { form: /^\$6\$(?:rounds=(\d{4,9})\$)?[./A-Za-z0-9]{1,16}\$[./A-Za-z0-9]{86}$/, least: [1000], most: [100_000] },
  { form: /^\$5\$(?:rounds=(\d{4,9})\$)?[./A-Za-z0-9]{1,16}\$[./A-Za-z0-9]{43}$/, least: [1000], most: [100_000] },
  // $2b$12$salt and hash: the exponent of the rounds
  { form: /^\$2[aby]\$(\d\d)\$[./A-Za-z0-9]{53}$/, least: [4], most: [13] },
];

/** Whether what is kept was brought from elsewhere; it is replaced by a hash of our own at the next sign-in. */
export const isGivenHash = (kept: string): boolean => kept.startsWith('$');

/** What is wrong with a hash that somebody gives; null when passwords can be compared with it. */
export function whyNotGiven(hash: string): string | null {
  for (const { form, least, most } of SCHEMES) {
    const found = form.exec(hash);
    if (!found) continue;
    const costs = found.slice(1).map((one, at) => Number(one ?? least[at]));
    return costs.every((cost, at) => cost >= (least[at] ?? 0) && cost <= (most[at] ?? 0)) ? null : 'its cost is too high';
  }
  return 'its form is not one of argon2id, scrypt, bcrypt ($2b$), SHA-512 crypt ($6$) and SHA-256 crypt ($5$)';
}

/** A password, and what is kept of one. */
export interface HashQuestion {
  password: string;
  kept: string;
}

/** Compares passwords with given hashes, on a thread that begins with the first. */
export class GivenHashes {
  private readonly calls = new ThreadCalls<HashQuestion, boolean>(threadProgram('hash'), null, { name: 'the thread that compares' });

  /** As `passwordMatches`, for whatever is kept. A wrong password costs what it costs with any other mailbox, and what this hash costs. */
  matches = async (password: string, kept: string | null): Promise<boolean> => {
    if (kept === null || !isGivenHash(kept)) return passwordMatches(password, kept);
    return (await this.calls.ask({ password: password.slice(0, 1024), kept })) || passwordMatches(password, null);
  };
}
