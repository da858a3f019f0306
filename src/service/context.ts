import type { EventEmitter } from 'node:events';
import type { Views } from '../core/checks/check-domain.ts';
import type { Subject } from '../core/checks/finding.ts';
import type { WeightGate } from '../core/gate.ts';
import type { Lookup } from '../core/records/answers.ts';
import type { HostFacts } from '../core/records/sheet.ts';
import type { ZoneChange } from '../core/records/zone-changes.ts';
import type { OctetBudget } from '../core/smtp/octet-budget.ts';
import type { ServerState } from '../dns/server-health.ts';
import type { TsigKey } from '../dns/tsig.ts';
import type { UpdateResult } from '../dns/update.ts';
import type { Database } from '../store/database.ts';
import type { KeyFile } from '../store/key-file.ts';
import type { Payer } from '../store/ledger.ts';
import type { MessageTexts } from '../store/message-texts.ts';
import type { QueueItem } from '../store/queue.ts';
import type { CheckRun } from './check-runs.ts';
import type { Change } from './checks.ts';
import type { RemoteHost, SendMail } from './deliver.ts';
import type { Holds } from './holds.ts';
import type { LimitKeeper } from './limits.ts';
import type { LoopWatch } from './loop-watch.ts';
import type { Metrics } from './metrics.ts';
import type { CallOut, Notices } from './notices.ts';
import type { PasswordChecks } from './password-checks.ts';
import type { ReportLimit } from './report-limit.ts';
import type { Sessions } from './sessions.ts';
import type { SignInGuard } from './sign-in-guard.ts';
import type { SigningKeys } from './signing-keys.ts';
import type { Space } from './space.ts';
import type { Brakes } from './stopping.ts';
import type { Stops } from './stops.ts';
import type { UnusualWatch } from './unusual.ts';

export interface Log {
  info(data: object, text: string): void;
  warn(data: object, text: string): void;
  error(data: object, text: string): void;
}

export interface Clock {
  /** Wall time in ms, for everything that people read. */
  now(): number;
  /** Time in ms that no step of the wall clock moves while the service runs, for the ledger and for all that waits. */
  steady(): number;
  /** How far the database was ahead of the machine’s clock at the start, in ms; 0 when no clock was wrong. */
  readonly ahead: number;
  /** How far the machine’s clock was set since the start, in ms; 0 when it was not. */
  readonly stepped: number;
  /** Begins again at the wall’s time: the times in the database were put right. */
  realign(): void;
}

/** The ways to DNS beside the everyday look-up; dns and net provide them. */
export interface DnsAccess {
  /** Makes the next everyday look-ups ask the name servers again. */
  forget(): void;
  /** Fresh views for a run of checks, which keep what they hear for as long as the run lasts; or with one resolver instead of the configured ones. */
  openViews(resolver?: { address: string; port: number }): Views;
  /** One name server, asked for what it has itself. */
  openServer(server: { server: string; port: number }): Lookup;
  update(
    server: { server: string; port: number },
    zone: string,
    key: TsigKey,
    changes: readonly ZoneChange[],
    ttl: number,
  ): Promise<UpdateResult>;
  /** The name that greets at the host's own first address and port 25; null when nothing is reached. */
  greeting(): Promise<string | null>;
  /** Asks each configured resolver by itself about a name; `fault` null when it answered. */
  askResolvers(name: string): Promise<{ address: string; fault: string | null }[]>;
  /** How each configured resolver fares. */
  resolvers(): ServerState[];
  /** Further public addresses of this machine from which mail may leave. */
  routes(): string[];
}

/** What live listeners hear. */
export type News =
  | { kind: 'check-step'; domain: string; subject: Subject }
  | { kind: 'check-run'; done: number; total: number }
  | ({ kind: 'finding-changed' } & Change);

/** What parts of the service tell one another, by event. */
export interface ServiceSignals {
  mail: [items: QueueItem[] | null];
  attempted: [journeyId: string];
  /** A transaction is on disk: there may be more in the journal. */
  journal: [];
  /** Waiting recipients were held, let go or dropped. */
  'queue-changed': [];
  /** Somebody wants mail for that domain tried now. */
  destination: [domain: string];
  /** An outlet, or what one may take, was changed; who waits for one is looked at again. */
  outlets: [];
  /** The steady clock was set anew: what rests until a time of it begins anew. */
  realigned: [];
  /** There may be room under a limit that was full. */
  room: [];
  /** Sends were accepted and charged. */
  charged: [payer: Payer, sends: number];
  /** Sends of a submitter have come to their end. */
  ended: [sends: { domain: string | null; mailbox: string | null; failed: number; ended: number }];
  news: [news: News];
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
    /** Block lists that are asked for the host's addresses. */
    blockLists: readonly string[];
    /** Block lists by which clients are refused. */
    refuseListed: readonly string[];
  };
  lookup: Lookup;
  dns: DnsAccess;
  log: Log;
  limits: LimitKeeper;
  holds: Holds;
  stops: Stops;
  brakes: Brakes;
  notices: Notices;
  unusual: UnusualWatch;
  keyFile: KeyFile;
  /** Proves the return addresses of forwarded mail. */
  returnKey: Buffer;
  /** The ways to other servers: a message, a walk without one, a signed call. */
  send: SendMail;
  walk: (host: RemoteHost) => Promise<{ step: string; good: boolean; text: string }[]>;
  callOut: CallOut;
  keys: SigningKeys;
  /** `mail` when something is due for delivery: what it is, or null to look for oneself; `attempted` with a journey's id when the outcome of an attempt is written down; `news` for live listeners. */
  signals: EventEmitter<ServiceSignals>;
  metrics: Metrics;
  /** Bounds reports to the outside. */
  reports: ReportLimit;
  /** Against guessing, for mailboxes and for the console apart. */
  guards: { mailboxes: SignInGuard; console: SignInGuard };
  passwords: PasswordChecks;
  /** One-time codes that were asked for on the machine itself. */
  recovery: { take(): { account: string; codeHash: string } | null };
  /** Recipients that are being handed over to a server at this moment. */
  handingOver: Set<number>;
  /** Mailboxes that are open by POP3: one session at a time each (RFC 1939 §4). */
  openMailboxes: Set<number>;
  /** Everybody who is signed in at this moment. */
  sessions: Sessions;
  /** How long everybody waits for a turn, and for what. */
  loop: LoopWatch;
  /** The room on the disk. */
  space: Space;
  /** Octets of messages that come in, over all conversations. */
  underWay: OctetBudget;
  /** Messages that are being judged, signed for and stored: each takes a few times its size while that lasts. */
  taking: WeightGate;
  /** The last check of every domain, under way or done. */
  checkRuns: { latest: CheckRun | null };
  /** Between two scheduled checks of a domain; 0 for no schedule. */
  checkEveryMs: number;
  /** 0 to 1 */
  random: () => number;
  version: string;
}
