import type { EventEmitter } from 'node:events';
import type { Lookup } from '../../core/records/answers.ts';
import type { HostFacts } from '../../core/records/sheet.ts';
import type { Database } from '../../store/database.ts';
import type { KeyFile } from '../../store/key-file.ts';
import type { MessageTexts } from '../../store/message-texts.ts';
import type { LoopWatch } from './loop-watch.ts';
import type { Metrics } from './metrics.ts';
import type { Clock, DnsAccess, Log, ServiceSignals } from './ports.ts';
import type { Space } from './space.ts';

/** What everybody needs: store, clock, the host, and the ways to the outside. */
export interface BaseDeps {
  db: Database;
  texts: MessageTexts;
  clock: Clock;
  host: HostFacts & {
    /** Where mail to postmaster and abuse goes that reaches nobody else. */
    postmaster: string;
    maxMessageBytes: number;
    /** Whether outlets and other servers of domains may be on this machine; without a word, not. */
    toThisMachine?: boolean;
    /** Block lists that are asked for the host's addresses. */
    blockLists: readonly string[];
    /** Block lists by which clients are refused. */
    refuseListed: readonly string[];
  };
  lookup: Lookup;
  dns: DnsAccess;
  log: Log;
  keyFile: KeyFile;
  /** `mail` when something is due for delivery: what it is, or null to look for oneself; `attempted` with a journey's id when the outcome of an attempt is written down; `news` for live listeners. */
  signals: EventEmitter<ServiceSignals>;
  metrics: Metrics;
  /** How long everybody waits for a turn, and for what. */
  loop: LoopWatch;
  /** The room on the disk. */
  space: Space;
  /** 0 to 1 */
  random: () => number;
  version: string;
}
