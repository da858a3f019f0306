/**
 * The closed sets of words that every face shows: one home for each, and every list of choices in the store, the
 * API, the command-line client and the console is made of these. docs/glossary.md says what they mean.
 */

/** By what each list can be put in order, its usual order first. */
export const ORDERS = {
  customers: ['name', 'domains', 'since'],
  plans: ['name', 'domains'],
  domains: ['name', 'customer', 'readiness', 'mailboxes', 'storage'],
  removedMailboxes: ['removed', 'address'],
  members: ['address', 'since'],
  mailboxes: ['address', 'messages', 'storage', 'since'],
  aliases: ['address', 'since'],
  movedAddresses: ['address', 'since'],
  appPasswords: ['name', 'used', 'since'],
  networks: ['network', 'note', 'since'],
  sessions: ['used', 'since', 'address'],
  tokens: ['name', 'used', 'since'],
  lockouts: ['ours', 'until', 'name', 'failures'],
  signIns: ['last', 'mailbox', 'client', 'times'],
  signInTroubles: ['last', 'mailbox', 'client', 'times'],
  letters: ['customer', 'domain', 'checked'],
  keys: ['since', 'selector'],
  zones: ['name', 'server', 'since'],
  rehearsals: ['at', 'subject'],
  trials: ['at', 'sender', 'points'],
  witnesses: ['name', 'since'],
  backups: ['at', 'size'],
  upkeepRuns: ['at', 'outcome'],
  transfers: ['at', 'subject', 'state'],
  movePlans: ['since', 'domain'],
  certificates: ['due', 'name', 'domain', 'until'],
  outlets: ['position', 'name'],
  webhooks: ['since', 'url'],
  stops: ['since', 'name', 'kind'],
  queue: ['next', 'accepted', 'sender', 'recipient', 'attempts', 'size'],
} as const;
export type Order<List extends keyof typeof ORDERS> = (typeof ORDERS)[List][number];

/** What a sending limit counts: messages, sends (one message to one recipient), octets. */
export const QUANTITIES = ['messages', 'sends', 'bytes'] as const;
export type Quantity = (typeof QUANTITIES)[number];
/** One of it, several of it. */
export const QUANTITY_WORDS: Record<Quantity, readonly [string, string]> = {
  messages: ['message', 'messages'],
  sends: ['send', 'sends'],
  bytes: ['byte', 'bytes'],
};

/** A minute for bursts; hour and day slide; the others are the calendar's, in the provider's time zone. */
export const PERIODS = ['minute', 'hour', 'day', 'calendar-day', 'month'] as const;
export type Period = (typeof PERIODS)[number];

/** Whose sending a limit bounds. */
export const SCOPE_KINDS = ['server', 'customer', 'domain', 'mailbox', 'outlet', 'network'] as const;
export type ScopeKind = (typeof SCOPE_KINDS)[number];

/** What this server is for a domain. */
export const ROLES = ['home', 'pass-on', 'standby', 'away'] as const;
export type Role = (typeof ROLES)[number];

/** What a domain asks for in its DMARC record (RFC 7489 §6.3). */
export const POLICIES = ['none', 'quarantine', 'reject'] as const;
export type Policy = (typeof POLICIES)[number];

/** Where a certificate is from. */
export const CERTIFICATE_SOURCES = ['file', 'added', 'fetched', 'self-signed'] as const;
export type CertificateSource = (typeof CERTIFICATE_SOURCES)[number];

/** Where a name leads that a certificate is wanted for. */
export const NAME_LEADS = ['here', 'elsewhere', 'nowhere', 'unknown'] as const;
export type NameLead = (typeof NAME_LEADS)[number];

/** By which name the people of a domain connect: `mail.DOMAIN`, or the host’s. */
export const MAIL_NAMES = ['own', 'host'] as const;
export type MailName = (typeof MAIL_NAMES)[number];

/** What is rehearsed. */
export const REHEARSALS = ['signin', 'receive', 'send', 'relay'] as const;
export type RehearsalKind = (typeof REHEARSALS)[number];

/** What came of a step of it. */
export const STEP_STATES = ['done', 'failed', 'not-reached'] as const;
export type StepState = (typeof STEP_STATES)[number];

/** What is looked at in a message that is scored. */
export const MESSAGE_SUBJECTS = [
  'spf',
  'dkim',
  'dmarc',
  'reverse',
  'greeting',
  'tls',
  'block-lists',
  'envelope',
  'fields',
  'parts',
  'links',
  'attachments',
  'list',
  'size',
] as const;
export type MessageSubject = (typeof MESSAGE_SUBJECTS)[number];
/** As people read it. */
export const MESSAGE_SUBJECT_WORDS: Record<MessageSubject, string> = {
  spf: 'SPF',
  dkim: 'DKIM',
  dmarc: 'DMARC',
  reverse: 'reverse DNS',
  greeting: 'greeting',
  tls: 'TLS',
  'block-lists': 'block lists',
  envelope: 'envelope',
  fields: 'header',
  parts: 'text',
  links: 'links',
  attachments: 'attachments',
  list: 'unsubscribing',
  size: 'size',
};

/** What is done so that nothing is lost: a backup, the proof of one, a look at what is stored. */
export const UPKEEP_KINDS = ['backup', 'verify', 'integrity'] as const;
export type UpkeepKind = (typeof UPKEEP_KINDS)[number];

/** Mail that is carried: out of a backup back to its mailbox, here from elsewhere, or out of here. */
export const TRANSFER_KINDS = ['recover', 'import', 'export'] as const;
export type TransferKind = (typeof TRANSFER_KINDS)[number];
/** How far it has come; `partly`: over, and something was left out. */
export const TRANSFER_STATES = ['under-way', 'done', 'partly', 'failed', 'stopped'] as const;
export type TransferState = (typeof TRANSFER_STATES)[number];
/** The steps by which a domain's mail moves here from another server, in their order. */
export const MOVE_STEPS = ['sign-in', 'mailboxes', 'first-pass', 'short-ttl', 'sheets', 'mx', 'last-pass'] as const;
export type MoveStep = (typeof MOVE_STEPS)[number];
/** How a step stands; `later`: others come before it. */
export const MOVE_STATES = ['done', 'next', 'under-way', 'waiting', 'wrong', 'later', 'skipped'] as const;
export type MoveState = (typeof MOVE_STATES)[number];
export const MOVE_STEP_TITLES: Record<MoveStep, string> = {
  'sign-in': 'Sign in at the old server',
  mailboxes: 'Mailboxes here',
  'first-pass': 'First pass',
  'short-ttl': 'Short TTL of the MX records',
  sheets: 'Settings sheets',
  mx: 'MX records point here',
  'last-pass': 'Last pass, until no more mail arrives',
};
/** How exported mail is written: one mbox a folder (RFC 4155), or one file a message. */
export const MAIL_FORMS = ['mbox', 'eml'] as const;
export type MailForm = (typeof MAIL_FORMS)[number];

/** What happens here to incoming mail that DMARC finds forged. */
export const JUDGES = ['note', 'junk', 'enforce'] as const;
export type Judge = (typeof JUDGES)[number];

/** What a full mailbox says to mail: come again later, or no. */
export const FULL_MAILBOX = ['put-off', 'refuse'] as const;
export type FullMailbox = (typeof FULL_MAILBOX)[number];

export const VERDICTS = ['good', 'weak', 'wrong', 'missing', 'waiting', 'unknown'] as const;
export type Verdict = (typeof VERDICTS)[number];

/** What is checked for every domain, with a mark of its own everywhere. */
export const SUBJECTS = ['mx', 'spf', 'dkim', 'dmarc', 'reverse'] as const;
export type DomainSubject = (typeof SUBJECTS)[number];
/** What is checked at all: `discovery` earns no points, since nobody has to publish it; `host` is in the host's own report only. */
export const ALL_SUBJECTS = [...SUBJECTS, 'discovery', 'host'] as const;
export type Subject = (typeof ALL_SUBJECTS)[number];
/** Points that each is worth; they sum to 100. MX and DKIM decide most about whether mail arrives and is trusted. */
export const SUBJECT_WORTH: Record<Subject, number> = { mx: 25, spf: 20, dkim: 25, dmarc: 15, reverse: 15, discovery: 0, host: 0 };
/** As people read it. */
export const SUBJECT_WORDS: Record<Subject, string> = {
  mx: 'MX',
  spf: 'SPF',
  dkim: 'DKIM',
  dmarc: 'DMARC',
  reverse: 'reverse DNS',
  discovery: 'client set-up',
  host: 'host',
};

export const KEY_TYPES = ['rsa', 'ed25519'] as const;
export type KeyType = (typeof KEY_TYPES)[number];

export const KEY_STATES = ['prepared', 'active', 'retiring', 'retired'] as const;
export type KeyState = (typeof KEY_STATES)[number];

/** By what a zone update is signed (RFC 8945 §6); those of MD5 and SHA-1 are not offered. */
export const TSIG_ALGORITHMS = ['hmac-sha256', 'hmac-sha384', 'hmac-sha512'] as const;
export type TsigAlgorithm = (typeof TSIG_ALGORITHMS)[number];

/** How far a message has come to one of its recipients. */
export const RECIPIENT_STATES = ['queued', 'delivered', 'delayed', 'relayed', 'failed'] as const;
export type RecipientState = (typeof RECIPIENT_STATES)[number];

/** Why mail waits in the queue although its time has come. */
export const HELD = ['limit', 'brake', 'pause', 'unusual', 'hand'] as const;
export type Held = (typeof HELD)[number];

/** What stops sending: somebody, too many failures, or a volume far from the usual. */
export const STOPS = ['pause', 'brake', 'unusual'] as const;
export type StopKind = (typeof STOPS)[number];

/** What somebody can be told of. */
export const NOTICE_EVENTS = ['limit-warning', 'brake-set', 'unusual-sending', 'nearly-full'] as const;
export type NoticeEvent = (typeof NOTICE_EVENTS)[number];

/** What somebody is to a mailbox that is shared with them. */
export const MEMBER_ROLES = ['reader', 'writer', 'manager'] as const;
export type MemberRole = (typeof MEMBER_ROLES)[number];

/** What can be added by a list, in the order in which it is needed. */
export const LISTS = ['customers', 'domains', 'mailboxes'] as const;
export type ListName = (typeof LISTS)[number];

/** Whether TLS is used on the way to a smart host. */
export const TLS_MODES = ['none', 'offered', 'required', 'implicit'] as const;
export type TlsMode = (typeof TLS_MODES)[number];

/** Where somebody signs in to a mailbox. */
export const SIGN_IN_SERVICES = ['submission', 'POP3', 'IMAP'] as const;
export type SignInService = (typeof SIGN_IN_SERVICES)[number];

/** Why somebody could not sign in to a mailbox. */
export const TROUBLES = [
  'name-form',
  'alias',
  'twin',
  'no-mailbox',
  'password',
  'main-password',
  'in-clear',
  'old-tls',
  'certificate',
] as const;
export type TroubleKind = (typeof TROUBLES)[number];

/** What a delivery report says of its recipients (RFC 3464 §2.3.3). */
export const REPORT_ACTIONS = ['failed', 'delayed', 'delivered', 'relayed', 'expanded'] as const;
export type ReportAction = (typeof REPORT_ACTIONS)[number];
