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

/** The best one for a name: one that is valid now, and is trusted; of several the one that lasts longest. */
function best<One extends Choosable>(all: Iterable<One>, now: number): One | undefined {
  const worth = (one: Choosable): number =>
    (one.notBefore <= now && now < one.notAfter ? 4 : 0) + (one.isTrusted ? 2 : 0) + (one.isSelfSigned ? 0 : 1);
  return [...all].sort((one, other) => worth(other) - worth(one) || other.notAfter - one.notAfter)[0];
}

/** Certificates by the names that they are for, so that thousands of them cost no more than a few. */
export class ByName<One extends Choosable & { id: string }> {
  private readonly byId = new Map<string, One>();
  private readonly byName = new Map<string, Set<One>>();

  get all(): One[] {
    return [...this.byId.values()];
  }

  /** Takes the place of the one with the same id. */
  put(one: One): void {
    this.drop(one.id);
    this.byId.set(one.id, one);
    for (const name of one.names) this.byName.set(name, (this.byName.get(name) ?? new Set()).add(one));
  }

  drop(id: string): boolean {
    const old = this.byId.get(id);
    for (const name of old?.names ?? []) {
      const same = this.byName.get(name);
      same?.delete(old as One);
      if (same?.size === 0) this.byName.delete(name);
    }
    return this.byId.delete(id);
  }

  /** The best one that is for a host; undefined where none is. */
  for(host: string, now: number): One | undefined {
    const star = `*${host.slice(Math.max(0, host.indexOf('.')))}`;
    const found = [...(this.byName.get(host) ?? []), ...(coversName(star, host) ? (this.byName.get(star) ?? []) : [])];
    return best(new Set(found), now);
  }
}
