import { randomBytes } from 'node:crypto';
import type { Views } from '../core/checks/views.ts';
import { Gate } from '../core/gate.ts';
import { type Lookup, lookUp } from '../core/records/answers.ts';
import { sameAddress } from '../core/records/reverse-name.ts';
import type { Stand, ZoneChange } from '../core/records/zone-changes.ts';
import { Resolver } from './resolver.ts';
import type { ServerHealth } from './server-health.ts';
import { MOST_SERVERS, SourceResolver } from './source.ts';
import type { Server } from './transport.ts';
import type { TsigKey } from './tsig.ts';
import { type UpdateResult, updateZone } from './update.ts';

export interface AccessSettings {
  resolvers: readonly Server[];
  timeoutMs: number;
  /** Leads addresses and ports elsewhere. */
  dial: readonly { to: Server; through: Server }[];
  /** Wall time, for signed updates, and a clock that nobody sets, for what is cached; ms. */
  now: () => number;
  steady: () => number;
  health: ServerHealth;
  /** Questions of checks that are under way at once. */
  mostAtOnce?: number;
}

/** More questions at once would only be lost in the buffers of a busy resolver. */
export const MOST_AT_ONCE = 64;
/** An update writes the zone to disk before it is answered. */
const UPDATE_MS = 10_000;

/** Opens views of DNS for checks, and single servers for updates. */
export function openDns({ resolvers, timeoutMs, dial, now, steady, health, mostAtOnce = MOST_AT_ONCE }: AccessSettings) {
  const dialled = (server: Server): Server => {
    const entry = dial.find(({ to }) => to.port === server.port && sameAddress(to.address, server.address));
    return entry ? { ...entry.through, known: server.address } : server;
  };
  const gate = new Gate(mostAtOnce);
  const stub = (servers: readonly Server[]): Lookup => new Resolver({ servers, timeoutMs, tries: 2, now: steady, gate, health }).lookup;
  return {
    openViews(resolver?: Server): Views {
      const servers = resolver ? [dialled(resolver)] : resolvers;
      const source = new SourceResolver({ resolver: stub(servers), timeoutMs, dial: dialled, gate, health });
      const further = Array.from({ length: MOST_SERVERS - 1 }, (_none, at) => source.further(at + 1));
      return {
        source: source.lookup,
        further,
        caches: servers.map((server) => stub([server])),
        sibling: randomBytes(8).toString('hex'),
      };
    },
    askResolvers: (name: string): Promise<{ address: string; fault: string | null }[]> =>
      Promise.all(
        resolvers.map(async (server) => {
          const answer = await lookUp(stub([server]), name, 'A');
          return { address: server.known ?? server.address, fault: answer.kind === 'failed' ? answer.reason : null };
        }),
      ),
    openServer: ({ server, port }: { server: string; port: number }): Lookup => stub([dialled({ address: server, port })]),
    update: (
      { server, port }: { server: string; port: number },
      zone: string,
      key: TsigKey,
      changes: readonly ZoneChange[],
      ttl: number,
      stand: Stand | null = null,
    ): Promise<UpdateResult> =>
      updateZone(dialled({ address: server, port }), zone, key, changes, {
        ttl,
        timeoutMs: UPDATE_MS,
        now: Math.floor(now() / 1000),
        stand,
      }),
  };
}
