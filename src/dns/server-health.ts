import { BoundedMap } from '../core/bounded-map.ts';
import type { Server } from './transport.ts';

/** How one name server has fared lately. */
export interface ServerState {
  address: string;
  port: number;
  /** `slow`: it answers, but takes a good part of the time-out; `silent`: the last questions got no reply at all. */
  state: 'answers' | 'slow' | 'silent' | 'unasked';
  /** Milliseconds that a reply takes, an average that forgets; null before the first. */
  ms: number | null;
  /** How long it has given no reply, in ms; null while it does. */
  silentMs: number | null;
}

interface Kept {
  failures: number;
  ms: number | null;
  answeredAt: number | null;
  silentSince: number | null;
  probedAt: number;
}

const MOST_KEPT = 5000;
/** So many questions in a row without a reply, and the server is asked last. */
const SILENT_AFTER = 2;
/** A silent server gets a question besides the others this often, so that its return is noticed. */
const PROBE_EVERY_MS = 20_000;
/** A silence this long ago proves nothing any more. */
const FORGET_MS = 10 * 60_000;
/** How much a new measure counts in the average. */
const WEIGHT = 0.3;
/** A share of the time-out: a reply that takes longer is slow. */
const SLOW_SHARE = 0.4;

/**
 * Remembers which name servers are slow or dead, so that they are asked last and nobody waits for their time-outs again.
 * `now` in milliseconds; only differences count.
 */
export class ServerHealth {
  private readonly kept = new BoundedMap<string, Kept>(MOST_KEPT);

  constructor(
    private readonly now: () => number,
    private readonly timeoutMs: number,
  ) {}

  /** The servers in the order of asking: those that answer as they were given, then the slow, then the silent. */
  ordered(servers: readonly Server[]): Server[] {
    if (servers.length < 2) return [...servers];
    const rank = { answers: 0, unasked: 0, slow: 1, silent: 2 };
    return servers
      .map((server, at) => ({ server, at, rank: rank[this.stateOf(server)] }))
      .sort((one, other) => one.rank - other.rank || one.at - other.at)
      .map(({ server }) => server);
  }

  /** How long to wait for this server before the next one is asked as well, in ms. */
  patience(server: Server): number {
    const { ms } = this.kept.get(keyOf(server)) ?? { ms: null };
    return Math.min(this.timeoutMs / 4, Math.max(50, (ms ?? this.timeoutMs / 8) * 4));
  }

  /** A silent server that is to be asked once more, beside the others; each is named once in twenty seconds. */
  toProbe(servers: readonly Server[]): Server | null {
    const now = this.now();
    for (const server of servers) {
      const kept = this.kept.get(keyOf(server));
      if (!kept || kept.failures < SILENT_AFTER || now - kept.probedAt < PROBE_EVERY_MS) continue;
      kept.probedAt = now;
      return server;
    }
    return null;
  }

  answered(server: Server, ms: number): void {
    const kept = this.keep(server);
    kept.failures = 0;
    kept.silentSince = null;
    kept.answeredAt = this.now();
    kept.ms = kept.ms === null ? ms : kept.ms + (ms - kept.ms) * WEIGHT;
  }

  silent(server: Server): void {
    const kept = this.keep(server);
    const now = this.now();
    kept.failures += 1;
    kept.silentSince ??= now;
    kept.probedAt = now;
  }

  states(servers: readonly Server[]): ServerState[] {
    return servers.map((server) => {
      const kept = this.kept.get(keyOf(server));
      const silentSince = kept?.silentSince ?? null;
      return {
        address: server.known ?? server.address,
        port: server.port,
        state: this.stateOf(server),
        ms: kept?.ms === undefined || kept.ms === null ? null : Math.round(kept.ms),
        silentMs: silentSince === null ? null : this.now() - silentSince,
      };
    });
  }

  private stateOf(server: Server): ServerState['state'] {
    const kept = this.kept.get(keyOf(server));
    if (!kept || (kept.failures > 0 && this.now() - kept.probedAt > FORGET_MS)) return 'unasked';
    if (kept.failures >= SILENT_AFTER) return 'silent';
    return kept.ms !== null && kept.ms > this.timeoutMs * SLOW_SHARE ? 'slow' : kept.answeredAt === null ? 'unasked' : 'answers';
  }

  private keep(server: Server): Kept {
    const key = keyOf(server);
    let kept = this.kept.get(key);
    if (!kept) {
      kept = { failures: 0, ms: null, answeredAt: null, silentSince: null, probedAt: 0 };
      this.kept.set(key, kept);
    }
    return kept;
  }
}

/** What a server is known by. */
export const keyOf = ({ address, port, known }: Server): string => `${known ?? ''} ${address} ${port}`;
