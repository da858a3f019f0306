/** Whether a name in a certificate is for a host: one label may be a star, and only the first (RFC 9525 §6.3). */
export function coversName(inCertificate: string, host: string): boolean {
  if (inCertificate === host) return true;
  if (!inCertificate.startsWith('*.')) return false;
  const dot = host.indexOf('.');
  return dot > 0 && host.slice(dot) === inCertificate.slice(1) && host.slice(dot + 1).includes('.');
}

export const coversAny = (names: readonly string[], host: string): boolean => names.some((one) => coversName(one, host));

/** What decides between certificates for one name. */
export interface Choosable {
  names: readonly string[];
  notBefore: number;
  notAfter: number;
  isTrusted: boolean;
  isSelfSigned: boolean;
}

/** The best one for a name: one that is for it, is valid now, and is trusted; of several the one that lasts longest. Undefined where none is for the name. */
export function bestFor<One extends Choosable>(all: readonly One[], host: string, now: number): One | undefined {
  const worth = (one: Choosable): number =>
    (one.notBefore <= now && now < one.notAfter ? 4 : 0) + (one.isTrusted ? 2 : 0) + (one.isSelfSigned ? 0 : 1);
  return all
    .filter((one) => coversAny(one.names, host))
    .sort((one, other) => worth(other) - worth(one) || other.notAfter - one.notAfter)[0];
}
