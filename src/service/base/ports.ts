import type { Views } from '../../core/checks/views.ts';
import type { Lookup } from '../../core/records/answers.ts';
import type { Stand, ZoneChange } from '../../core/records/zone-changes.ts';
import type { Envelope, RecipientOutcome } from '../../core/smtp/client-intents.ts';
import type { Subject, TlsMode, Verdict } from '../../core/vocabulary.ts';
import type { CheckRunInThreads } from '../../dns/check-threads.ts';
import type { ServerState } from '../../dns/server-health.ts';
import type { TsigKey } from '../../dns/tsig.ts';
import type { UpdateResult } from '../../dns/update.ts';
import type { Payer } from '../../store/ledger.ts';
import type { NearlyFull } from '../../store/mailbox-use.ts';
import type { QueueItem } from '../../store/queue.ts';

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
  /** For a run over many domains: they are checked in threads, so that mail goes on. */
  beginChecks(): CheckRunInThreads;
  /** One name server, asked for what it has itself. */
  openServer(server: { server: string; port: number }): Lookup;
  update(
    server: { server: string; port: number },
    zone: string,
    key: TsigKey,
    changes: readonly ZoneChange[],
    ttl: number,
    /** What the changes were made for: where something else stands by now, nothing is done. */
    stand?: Stand | null,
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
  /** A text lies in a mailbox now. */
  stored: [text: { file: string; size: number }];
  /** A mailbox uses nine tenths of its quota now, for the first time since it had room. */
  'nearly-full': [what: NearlyFull];
  /** A message is there that is to be scored. */
  trial: [id: number];
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

/** What became different by a check. */
export interface Change {
  domain: string | null;
  subject: Subject;
  verdict: Verdict;
  before: Verdict | null;
  headline: string;
}

/** Where a connection goes, and how. */
export interface RemoteHost {
  name: string;
  address: string;
  port: number;
  tls: TlsMode;
  /** Whether the certificate must name the host. */
  verify: boolean;
  credentials: { user: string; password: string } | null;
  sourceIpv4: string | null;
  sourceIpv6: string | null;
}

export type AttemptResult =
  /** `tls` in words, such as TLSv1.3; `dsn` when the other side reports deliveries itself; `note` when something was unlike what was wanted. */
  | { kind: 'done'; outcomes: RecipientOutcome[]; tls: string | null; dsn: boolean; note?: string }
  | { kind: 'unreachable'; reason: string; code: number | null };

/** An attempt as it is watched from outside: what is under way can be given up. */
export interface AttemptWatch {
  /** Set by whoever sends, while a conversation is open. */
  current: { readonly textSent: boolean; giveUp(reason: string): void } | null;
}

/** The way out to another server; net provides it. */
export type SendMail = (host: RemoteHost, envelope: Envelope, watch?: AttemptWatch) => Promise<AttemptResult>;

/** Sends one signed call; net provides it. `status` null when nothing answered. */
export type CallOut = (url: string, headers: Record<string, string>, body: string) => Promise<{ status: number | null; reason: string }>;
/** Posts a call, and reads what comes back; `reason` where nothing does. */
export type AskOut = (
  url: string,
  headers: Record<string, string>,
  body: string,
) => Promise<{ kind: 'answered'; status: number; headers: Record<string, string>; body: string } | { kind: 'failed'; reason: string }>;
