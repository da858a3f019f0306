import { readFileSync } from 'node:fs';

/** What a port gets of the descriptors that are left for connections, beside the others. */
const WEIGHT = { smtp: 4, submission: 3, submissions: 3, pop3: 2, pop3s: 2, imap: 4, imaps: 4, web: 1, challenge: 1 } as const;
export type ListenerService = keyof typeof WEIGHT;

/** Files, the database, questions to name servers and a hundred outgoing conversations. */
const OURS = 400;
const MOST = 10_000;
const MOST_WEB = 600;
const LEAST = 8;
/** What POSIX promises at least, where the system does not tell. */
const USUAL = 1024;

/** How many files and sockets this process may have open at once. */
export function descriptorLimit(): number {
  try {
    const found = /^Max open files\s+(\d+)/m.exec(readFileSync('/proc/self/limits', 'utf8'))?.[1];
    return found === undefined ? USUAL : Number(found);
  } catch {
    return USUAL;
  }
}

/** The most connections that each port may hold open, so that no port takes what another one needs; in the order of the ports. */
export function connectionShares(services: readonly ListenerService[], limit: number): number[] {
  const left = Math.max(0, limit - Math.min(OURS, Math.floor(limit / 2)));
  const whole = services.reduce((sum, one) => sum + WEIGHT[one], 0);
  return services.map((one) =>
    Math.max(LEAST, Math.min(one === 'web' || one === 'challenge' ? MOST_WEB : MOST, Math.floor((left * WEIGHT[one]) / whole))),
  );
}
