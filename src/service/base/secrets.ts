import { createHash, randomBytes, randomInt, type ScryptOptions, scrypt, timingSafeEqual } from 'node:crypto';
import { badInput } from './problem.ts';

/** RFC 7914 §2: 2^15 × 8 × 128 octets = 32 MiB for each try, about a tenth of a second. */
const COST = { N: 32_768, r: 8, p: 1, maxmem: 64 * 1024 * 1024 } satisfies ScryptOptions;

const derive = (password: string, salt: Buffer, options: ScryptOptions): Promise<Buffer> =>
  new Promise((resolve, reject) =>
    scrypt(password.normalize('NFKC'), salt, 32, options, (error, key) => (error ? reject(error) : resolve(key))),
  );

/** A password as it is kept: `scrypt$N$r$p$salt$key`. */
export async function hashPassword(password: string): Promise<string> {
  const salt = randomBytes(16);
  const key = await derive(password, salt, COST);
  return ['scrypt', COST.N, COST.r, COST.p, salt.toString('base64'), key.toString('base64')].join('$');
}

const NOBODY = `scrypt$${COST.N}$${COST.r}$${COST.p}$${Buffer.alloc(16).toString('base64')}$${Buffer.alloc(32).toString('base64')}`;

/** How a password is kept that was made here, with so much chance that no slow hash is needed. */
const FAST = 'sha256$';
export const fastHash = (password: string): string => `${FAST}${createHash('sha256').update(password).digest('base64')}`;

/** Whether a kept password was made here, and is compared at once. */
export const isFastHash = (kept: string): boolean => kept.startsWith(FAST);

/** Compares in constant time; an unknown user (null) costs the same as a known one. */
export async function passwordMatches(password: string, kept: string | null): Promise<boolean> {
  // A wrong one costs the same whatever is kept, so that nobody learns what that is.
  if (kept?.startsWith(FAST) && timingSafeEqual(Buffer.from(fastHash(password)), Buffer.from(kept))) return true;
  const [, n, r, p, salt = '', key = ''] = (kept === null || kept.startsWith(FAST) ? NOBODY : kept).split('$');
  const expected = Buffer.from(key, 'base64');
  const derived = await derive(password.slice(0, 1024), Buffer.from(salt, 'base64'), {
    N: Number(n),
    r: Number(r),
    p: Number(p),
    maxmem: COST.maxmem,
  });
  return timingSafeEqual(derived, expected) && kept !== null && !kept.startsWith(FAST);
}

/** Characters that are not taken for one another when read aloud or copied by hand. */
const CLEAR = 'abcdefghjkmnpqrstuvwxyz23456789';

function groups(count: number, length: number): string {
  return Array.from({ length: count }, () => Array.from({ length }, () => CLEAR[randomInt(CLEAR.length)]).join('')).join('-');
}

/** 20 characters of 31: about 99 bits. */
export const generatedPassword = (): string => groups(4, 5);
/** For one of many mailboxes: some 124 bits, so that a fast hash is enough. */
export const generatedListPassword = (): string => groups(5, 5);
/** For one device: some 118 bits, in groups that can be typed. */
export const generatedAppPassword = (): string => groups(6, 4);
/** Whether a password may be one of a device: nobody has such a one by chance. */
export const looksLikeAppPassword = (password: string): boolean => /^[a-z0-9]{4}(?:-[a-z0-9]{4}){5}$/.test(password);
/** 8 characters of 31: one in some billions is guessed while two hundred are open. */
export const newTrialName = (): string => groups(2, 4);
export const oneTimeCode = (): string => groups(4, 4);
export const newToken = (): string => `tnd_${randomBytes(24).toString('base64url')}`;
export const newSessionSecret = (): string => randomBytes(24).toString('base64url');
/** For secrets with enough randomness of their own: a plain hash is enough to look them up by. */
export const secretHash = (secret: string): string => createHash('sha256').update(secret).digest('hex');

/** A journey's id: time first, so that ids sort; 12 characters without look-alikes. */
export function newJourneyId(now: number): string {
  let text = '';
  let rest = Math.floor(now / 1000);
  while (rest > 0) {
    text = CLEAR[rest % 31] + text;
    rest = Math.floor(rest / 31);
  }
  while (text.length < 12) text += CLEAR[drawnOctet() % 31];
  return text;
}

/** A name of a conversation: rare enough that the log of some days has it once. */
export const newConversationId = (): string => Array.from({ length: 8 }, () => CLEAR[drawnOctet() % 31]).join('');

/** Octets drawn at once: each asking of the system costs more than many of them. */
const drawn = { octets: Buffer.alloc(0), next: 0 };
function drawnOctet(): number {
  if (drawn.next === drawn.octets.length) {
    drawn.octets = randomBytes(4096);
    drawn.next = 0;
  }
  return drawn.octets[drawn.next++] ?? 0;
}

const SHORTEST_PASSWORD = 12;

export function requireGoodPassword(password: string): void {
  if ([...password].length < SHORTEST_PASSWORD)
    throw badInput(
      'password',
      `The password has fewer than ${SHORTEST_PASSWORD} characters.`,
      'Choose a longer one, such as four unrelated words.',
    );
  if (password.length > 1024) throw badInput('password', 'The password has more than 1024 characters.', 'Choose a shorter one.');
  if (/\p{Cc}/u.test(password)) throw badInput('password', 'The password contains a control character.', 'Choose one that can be typed.');
}
