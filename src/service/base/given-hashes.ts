import { createRequire } from 'node:module';
import { Worker } from 'node:worker_threads';
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
    return costs.every((cost, at) => cost >= (least[at] ?? 0) && cost <= (most[at] ?? 0))
      ? null
      : 'its cost is beyond what is compared here';
  }
  return 'it is none of argon2id, scrypt, bcrypt ($2b$), SHA-512 crypt ($6$) and SHA-256 crypt ($5$)';
}

/** What the thread runs, as plain JavaScript, since it is started from this text: these would keep everybody waiting. */
const THREAD = `
const { parentPort, workerData } = require('node:worker_threads');
const { scryptSync, timingSafeEqual } = require('node:crypto');
const { argon2Verify, bcryptVerify } = require(workerData.hashes);
const crypt = import(workerData.crypt);
function scryptMatches(password, kept) {
  const [, , costs, salt, key] = kept.split('$');
  const [ln, r, p] = costs.split(',').map((one) => Number(one.slice(one.indexOf('=') + 1)));
  const expected = Buffer.from(key, 'base64');
  const derived = scryptSync(password, Buffer.from(salt, 'base64'), expected.length, { N: 2 ** ln, r, p, maxmem: 256 * 1024 * 1024 });
  return timingSafeEqual(derived, expected);
}
async function matches(password, kept) {
  if (password === '') return false;
  if (kept.startsWith('$argon2')) return argon2Verify({ password, hash: kept });
  if (kept.startsWith('$2')) return bcryptVerify({ password: Buffer.from(password).subarray(0, 72), hash: kept });
  if (kept.startsWith('$scrypt')) return scryptMatches(password, kept);
  return (await crypt).verify(password, kept);
}
parentPort.on('message', ({ number, password, kept }) =>
  matches(password, kept).then(
    (isRight) => parentPort.postMessage({ number, isRight }),
    // A hash of the right form that says nothing: no password is right by it.
    () => parentPort.postMessage({ number, isRight: false }),
  ),
);
`;
const HASHES = createRequire(import.meta.url).resolve('hash-wasm');

/** Compares passwords with given hashes, on a thread that begins with the first. */
export class GivenHashes {
  private thread: Worker | null = null;
  private readonly asked = new Map<number, { resolve: (isRight: boolean) => void; reject: (error: Error) => void }>();
  private last = 0;

  /** As `passwordMatches`, for whatever is kept. A wrong password costs what it costs with any other mailbox, and what this hash costs. */
  matches = async (password: string, kept: string | null): Promise<boolean> => {
    if (kept === null || !isGivenHash(kept)) return passwordMatches(password, kept);
    return (await this.ask(password.slice(0, 1024), kept)) || passwordMatches(password, null);
  };

  private ask(password: string, kept: string): Promise<boolean> {
    const thread = this.running();
    this.last += 1;
    const number = this.last;
    return new Promise((resolve, reject) => {
      this.asked.set(number, { resolve, reject });
      thread.postMessage({ number, password, kept });
    });
  }

  private running(): Worker {
    if (this.thread) return this.thread;
    const thread = new Worker(THREAD, { eval: true, workerData: { hashes: HASHES, crypt: import.meta.resolve('unixcrypt') } });
    thread.unref();
    thread.on('message', ({ number, isRight }: { number: number; isRight: boolean }) => {
      const asked = this.asked.get(number);
      this.asked.delete(number);
      asked?.resolve(isRight);
    });
    const ended = (): void => {
      if (this.thread !== thread) return;
      this.thread = null;
      for (const { reject } of this.asked.values()) reject(new Error('the thread that compares has ended'));
      this.asked.clear();
    };
    thread.on('error', ended);
    thread.on('exit', ended);
    this.thread = thread;
    return thread;
  }
}
