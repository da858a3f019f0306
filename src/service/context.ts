import type { EventEmitter } from 'node:events';
import type { Lookup } from '../core/records/answers.ts';
import type { HostFacts } from '../core/records/sheet.ts';
import type { Database } from '../store/database.ts';
import type { QueueItem } from '../store/journeys.ts';
import type { MessageTexts } from '../store/message-texts.ts';
import type { LimitKeeper } from './limits.ts';
import type { Metrics } from './metrics.ts';
import type { SignInGuard } from './sign-in-guard.ts';
import type { SigningKeys } from './signing-keys.ts';

export interface Log {
  info(data: object, text: string): void;
  warn(data: object, text: string): void;
  error(data: object, text: string): void;
}

export interface Clock {
  /** Wall time in ms, for everything that people read. */
  now(): number;
  /** Time in ms that no step of the wall clock moves while the service runs, for the ledger. */
  steady(): number;
}

/** What the use cases share. Made once, in main. */
export interface ServiceContext {
  db: Database;
  texts: MessageTexts;
  clock: Clock;
  host: HostFacts & {
    /** Where mail to postmaster and abuse goes that reaches nobody else. */
    postmaster: string;
    maxMessageBytes: number;
  };
  lookup: Lookup;
  /** Makes the next look-ups ask the name servers again. */
  forgetAnswers: () => void;
  log: Log;
  limits: LimitKeeper;
  keys: SigningKeys;
  /** `mail` when something is due for delivery: what it is, or null to look for oneself; `attempted` with a journey's id when the outcome of an attempt is written down. */
  signals: EventEmitter<{ mail: [items: QueueItem[] | null]; attempted: [journeyId: string] }>;
  metrics: Metrics;
  /** Against guessing, for mailboxes and for the console apart. */
  guards: { mailboxes: SignInGuard; console: SignInGuard };
  /** Mailboxes that are open by POP3: one session at a time each (RFC 1939 §4). */
  openMailboxes: Set<number>;
  version: string;
}
