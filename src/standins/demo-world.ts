import type { RunningService } from '../compose/running-service.ts';
import type { StandInResolver } from './caching-resolver.ts';
import type { StandInDns } from './dns-server.ts';
import type { StandInProvider } from './provider.ts';
import type { StandInRelay } from './relay.ts';
import type { Reserve } from './reserve.ts';

/** What the demo consists of while it runs. */
export interface World {
  /** The primary; another one after it was stopped and started again. */
  service: RunningService;
  reserve: Reserve;
  relay: StandInRelay;
  /** Stops the primary, and starts it again on the same ports. */
  stopPrimary(): Promise<void>;
  startPrimary(): Promise<void>;
  dns: StandInDns;
  resolver: StandInResolver;
  providers: StandInProvider[];
  /** Ports behind the PROXY protocol, for clients that claim an address of this world. */
  claimed: { smtp: number; submissions: number };
  webUrl: string;
  accessFile: string;
  close(): Promise<void>;
}
