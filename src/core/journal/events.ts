import type {
  Held,
  Judge,
  MoveStep,
  NoticeEvent,
  Period,
  Policy,
  Quantity,
  Role,
  ScopeKind,
  Subject,
  TransferKind,
  TransferState,
  Verdict,
} from '../vocabulary.ts';

/** A limit, as the journal names it; the amount is null where there is none. */
interface LimitData {
  quantity: Quantity;
  period: Period;
  amount: number | null;
}
/** What was asked for: `plan` for what the plan says. */
interface LimitAsked extends Omit<LimitData, 'amount'> {
  amount: number | 'plan' | null;
}
/** What is left of the tightest limit after a charge; null where there is no limit. */
interface LeftData {
  of: ScopeKind;
  limit: string;
  left: number;
}
/** One recipient's outcome of an attempt, or why nothing was tried. */
interface OutcomeData {
  recipient: string;
  reply: string;
  /** The enhanced status code (RFC 3463). */
  status?: string;
  host?: string | null;
  address?: string | null;
  /** The version, such as TLSv1.3; null in clear. Of old entries only whether. */
  tls?: string | boolean | null;
  outlet?: string | null;
  attempt?: number;
  /** What was unlike what was wanted. */
  note?: string | undefined;
  nextAttemptAt?: number | undefined;
}
interface ReportData {
  action?: string;
}
interface StopData {
  scope: string;
  text: string;
  sending: boolean;
  receiving: boolean;
  /** Waiting recipients that are held by it. */
  held: number;
}
interface ReleasedData {
  scope: string;
  recipients: number;
}
interface QueueActData {
  recipients: number;
  reason: string | null;
}
interface OutletData {
  name: string;
  kind: string;
  host: string | null;
  port: number | null;
  isOn: boolean;
  position: number;
}
interface NetworkData {
  cidr: string;
  note: string;
  maySubmit: boolean;
  domains: readonly string[];
}
interface UnusualData {
  scope: string;
  sends: number;
  usual: number;
  threshold: number;
  stopped?: boolean;
}
interface AliasData {
  address: string;
  targets: readonly string[];
}
interface Named {
  name: string;
}
interface AddressData {
  address: string;
}
interface AuthResult {
  result: string;
  domain: string | null;
  reason: string;
}

/** What each event says, in the version that `EVENTS` gives. What a `?` has was not always written: entries of old stay as they are. */
export interface EventData {
  /** `conversation`: as the log knows it; older entries have none. */
  connected: { client: string; conversation?: string; helo: string; service: string; tls: boolean; user: string | null; network?: string };
  expanded: { recipient: string; through: readonly string[]; to: readonly string[] };
  /** A submission got what it lacked, and lost what is nobody's business (RFC 6409 §8). */
  amended: { added: readonly string[]; removed?: readonly string[] };
  judged: {
    judge: Judge;
    trusted: string | null;
    folder: string | null;
    removed: number;
    helo: { result: string; domain: string | null };
    spf: AuthResult & { explanation: string | null };
    dkim: readonly (AuthResult & { selector: string | null })[];
    dmarc: AuthResult & { policy: Policy; disposition: Policy; isPolicyKnown?: boolean };
    author?: boolean;
  };
  signed: { domain: string; selector: string };
  accepted: { size: number; file?: string; recipients: number };
  charged: { messages: number; sends: number; bytes: number; to: string | null; left: LeftData | null };
  admitted: { recipient: string; to: string | null; left: LeftData | null };
  'over-limit': { scope: string; limit: string; recipients: number; roomAt: number | null };
  held: { recipient: string; why: Held };
  'held-by-hand': QueueActData;
  released: QueueActData;
  hurried: QueueActData;
  dropped: OutcomeData & { reason: string };
  /** No outlet has anything left, or none is on. */
  'waits-for-outlet': OutcomeData;
  relayed: OutcomeData;
  delayed: OutcomeData;
  failed: OutcomeData;
  refused: { recipient?: string; reply: string };
  delivered: { recipient: string; folder: string };
  'integrity-checked': { outcome: string };
  'backup-made': Named & { outcome: string };
  'backup-failed': Named & { outcome: string };
  'backup-verified': Named & { outcome: string };
  'backup-damaged': Named & { outcome: string };
  'address-moved': { address: string; to: string | null; forwardDays: number };
  'move-forgotten': { address: string };
  'move-begun': { server: string; mailboxes: number };
  'move-step': { step: MoveStep; act: 'done' | 'begun' | 'skipped' | 'undone' };
  'move-ended': { isWhole: boolean };
  'transfer-begun': { kind: TransferKind; subject: string; place: string };
  'transfer-ended': { kind: TransferKind; subject: string; state: TransferState; outcome: string };
  'witness-invited': Named;
  'witness-introduced': Named;
  'witness-removed': Named;
  /** What was done for another host. */
  'rehearsed-for': Named & { kind: string; subject: string };
  'to-be-scored': { recipient: string; trial: number };
  notice: { to: string; subject: string };
  reporting: ReportData & { about: string; recipients: readonly string[] };
  reported: ReportData & { to: string; report: string };
  'not-reported': ReportData & { to: string; reason: string };
  'text-lost': { file: string; how: string };
  'queue-asked-for': { client: string; recipients: number };

  'customer-added': Named & { contact?: string | null };
  'customer-changed': Named & { before: string; contact: string | null };
  'customer-removed': Named;
  'plan-added': Named;
  'plan-changed': Named & { fields: readonly string[] };
  'plan-removed': Named;
  'domain-added': { role: Role; customer: string; plan: string };
  /** What was changed, by its name in the API. */
  'domain-changed': Readonly<Record<string, unknown>>;
  'domain-removed': Record<string, never>;
  'twin-set': { of: string };
  'twin-removed': { of: string | null };
  'mailbox-added': AddressData;
  'mailbox-nearly-full': AddressData;
  /** All of a domain's mailboxes together. */
  'domain-nearly-full': Record<string, never>;
  'mailbox-brought-back': AddressData;
  'mailbox-shared': AddressData & { member: string; as: string; maySend: boolean };
  'mailbox-unshared': AddressData & { member: string };
  /** By somebody who may change the rights of a folder. */
  'folder-rights-changed': AddressData & { folder: string; member: string; rights: string };
  'shared-mailbox-used': AddressData & { by: string; act: SharedAct; folder: string; messages: number | null };
  'removed-mailbox-deleted': AddressData;
  'app-password-added': AddressData & Named;
  'app-password-removed': AddressData & Named;
  'retention-changed': AddressData & { folder: string; days: number | null };
  'mailbox-changed': AddressData & {
    password: boolean;
    quotaBytes: number | null;
    appPasswordsOnly?: boolean;
    appPasswordsRevoked?: number;
    copyTo?: readonly string[];
    /** Where no more copies go, since that address was removed. */
    copiesEnded?: string;
  };
  'mailbox-removed': AddressData;
  'alias-added': AliasData;
  'alias-changed': AliasData;
  'alias-removed': AddressData;
  'network-added': NetworkData;
  'network-changed': NetworkData;
  'network-removed': { cidr: string };
  'outlet-added': OutletData;
  'outlet-changed': OutletData & { password: boolean };
  'outlet-removed': Named;

  'limit-set': { scope: string; limits: readonly LimitAsked[]; whenFull: string | null; before: readonly LimitData[] };
  'limit-raised': LimitData & { scope: string; until: number; reason: string; before: number | null };
  'limit-raise-ended': { scope: string };
  'limit-warning': LimitData & { scope: string; level: number; used: number };
  paused: StopData;
  resumed: ReleasedData;
  'brake-set': StopData;
  'brake-released': ReleasedData;
  'unusual-sending': UnusualData;
  'unusual-stopped': StopData;
  'unusual-released': ReleasedData;
  'unusual-cleared': { scope: string };
  'notices-set': { mail: readonly NoticeEvent[] };
  'webhook-added': { url: string; events: readonly NoticeEvent[] };
  'webhook-removed': { url: string };

  'signed-in': { account: string; code: boolean };
  'spoke-early': { client: string; reply: string };
  'signed-out': { account: string };
  'password-changed': { account: string; ended: number };
  'sessions-ended': { account: string; ended: number };
  'token-added': Named;
  'token-removed': Named;
  'locked-out': { mailbox: string; seconds: number; failures: number; client: string };
  'lockout-lifted': Named;
  'settings-taken-over': { keys: readonly string[]; waiting: number };
  'clock-realigned': { minutes: number; charges: number };

  'finding-changed': { subject: Subject; verdict: Verdict; code: string; headline: string; before: Verdict | null; worse: boolean };
  'key-prepared': { selector: string; imported: boolean };
  'key-activated': { selector: string; force: boolean };
  'key-retiring': { selector: string; force: boolean };
  'key-retired': { selector: string; force: boolean };
  'key-removed': { selector: string };
  'records-published': { zone: string; changes: readonly string[] };
  'zone-set': { server: string; keyName: string };
  'zone-removed': Record<string, never>;
  'certificate-added': { names: readonly string[]; issuer: string; until: number };
  'certificate-fetched': { name: string; issuer: string; until: number };
  'certificate-failed': { name: string; reason: string; nextAt: number };
  'certificate-removed': { names: readonly string[] };
}

/** What a member has done in a shared mailbox. */
export type SharedAct = 'added' | 'copied-in' | 'moved-in' | 'moved-out' | 'expunged' | 'created' | 'deleted' | 'renamed' | 'granted';

export type EventName = keyof EventData;

/** What events were called before; entries of old have those names. */
export const FORMER_NAMES: ReadonlyMap<string, EventName> = new Map([
  ['completed', 'amended'],
  ['waiting', 'waits-for-outlet'],
]);

/** One event, as it is written down. */
export type EventOf<Name extends EventName = EventName> = { [One in Name]: { event: One; data: EventData[One] } }[Name];
