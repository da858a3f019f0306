import type { EventData, EventName, SharedAct } from '../../core/journal/events.ts';
import { type Held, MOVE_STEP_TITLES, SUBJECT_WORDS, type TransferKind } from '../../core/vocabulary.ts';
import { DOMAIN_FIELDS } from '../../resources/domain.ts';
import type { Field } from '../../resources/fields.ts';
import { limitText, periodText } from './limits.ts';

const text = (value: unknown): string => (value === null || value === undefined ? '' : String(value));
const day = (ms: number): string => new Date(ms).toISOString().slice(0, 10);
const list = (value: unknown): string => (Array.isArray(value) ? value.map(text).join(', ') : text(value));
const limitLine = ({ amount, quantity, period }: EventData['limit-set']['limits'][number]): string =>
  amount === 'plan' ? `${quantity} per ${periodText(period)} as in the plan` : limitText({ amount, quantity, period });
const when = (at: number): string => `${new Date(at).toISOString().slice(0, 16).replace('T', ' ')} UTC`;
const reason = (d: EventData['released']): string => (d.reason ? `: ${d.reason}` : '');
const heldWords = (held: number | undefined): string => (held ? `; ${held} recipients are held` : '');
const stopWords = (d: EventData['paused']): string =>
  [d.sending ? 'sending' : '', d.receiving ? 'receiving' : ''].filter(Boolean).join(' and ');
const outletWords = (d: EventData['outlet-added']): string =>
  `${d.kind === 'direct' ? 'by MX' : `${text(d.host)} port ${text(d.port)}`}, ${d.isOn ? 'on' : 'off'}`;
const leftWords = (left: EventData['charged']['left']): string => (left ? `; ${left.left} left of ${left.limit} (${left.of})` : '');
const HELD: Record<Held, string> = {
  limit: 'until there is room under the limit',
  brake: 'by the brake',
  pause: 'by a pause',
  unusual: 'for unusual sending',
  hand: 'by hand',
};

const CARRIED: Record<TransferKind, string> = {
  recover: 'restoring mail',
  import: 'importing mail',
  export: 'exporting mail',
};

/** What was done in a shared mailbox, to how many messages, and in which folder. */
const ACTS: Record<SharedAct, (messages: string, folder: string) => string> = {
  added: (messages, folder) => `put ${messages} into ${folder}`,
  'copied-in': (messages, folder) => `copied ${messages} into ${folder}`,
  'moved-in': (messages, folder) => `moved ${messages} into ${folder}`,
  'moved-out': (messages, folder) => `moved ${messages} out of ${folder}`,
  expunged: (messages, folder) => `removed ${messages} from ${folder}`,
  created: (_messages, folder) => `created the folder ${folder}`,
  deleted: (_messages, folder) => `removed the folder ${folder}`,
  renamed: (_messages, folder) => `renamed the folder ${folder}`,
  granted: (_messages, folder) => `changed the rights of ${folder}`,
};
const messageCount = (number: number | null): string => (number === null ? '' : `${number} ${number === 1 ? 'message' : 'messages'}`);

/** Each event of the journal in one sentence for people. */
/** What of a domain can be changed, as people call it. */
const DOMAIN_WORDS: Readonly<Record<string, string>> = {
  ...Object.fromEntries(Object.entries<Field>(DOMAIN_FIELDS).map(([name, field]) => [name, field.called ?? field.label])),
  dmarc: 'DMARC stage',
  recipientList: 'names on the list of recipients',
  recipients: 'names on the list of recipients',
};

const WORDS: { [Name in EventName]: (data: EventData[Name]) => string } = {
  connected: (d) =>
    `${text(d.client)} (${text(d.helo)}) connected to ${text(d.service)}${d.tls ? ' with TLS' : ' without TLS'}${d.conversation ? ` [${text(d.conversation)}]` : ''}${d.user ? `, signed in as ${text(d.user)}` : ''}${d.network ? `, from the network ${text(d.network)}, which may send` : ''}`,
  expanded: (d) => `${text(d.recipient)} resolved through ${list(d.through)} to ${list(d.to)}`,
  amended: (d) =>
    [
      ...(d.added.length > 0 ? [`added missing fields: ${list(d.added)}`] : []),
      ...(d.removed ? [`removed, so that no recipient sees it: ${list(d.removed)}`] : []),
    ].join('; '),
  signed: (d) => `signed for ${text(d.domain)} with the key ${text(d.selector)}`,
  accepted: (d) =>
    `accepted and stored, ${text(d.size)} bytes for ${text(d.recipients)} ${d.recipients === 1 ? 'recipient' : 'recipients'}`,
  charged: (d) => `${text(d.sends)} ${d.sends === 1 ? 'send' : 'sends'} charged to ${text(d.to) || 'the ledger'}${leftWords(d.left)}`,
  admitted: (d) => `${text(d.recipient)}: there is room now; charged to ${text(d.to)}${leftWords(d.left)}`,
  'over-limit': (d) =>
    `${text(d.scope)} has used its limit of ${text(d.limit)}: ${text(d.recipients)} ${d.recipients === 1 ? 'recipient waits' : 'recipients wait'} for room${typeof d.roomAt === 'number' ? `, which there is again at ${when(Math.ceil(d.roomAt / 60_000) * 60_000)}` : ''}`,
  held: (d) => `${text(d.recipient)}: held ${HELD[d.why] ?? text(d.why)}`,
  'held-by-hand': (d) => `held by hand${reason(d)}`,
  released: (d) => `released by hand${reason(d)}`,
  dropped: (d) => `${text(d.recipient)}: ${text(d.reason)}`,
  'waits-for-outlet': (d) => `${text(d.recipient)}: ${text(d.reply)}`,
  notice: (d) => `${text(d.to)} is notified: ${text(d.subject)}`,
  refused: (d) => `${d.recipient ? `${text(d.recipient)}: ` : ''}${text(d.reply)}`,
  delivered: (d) => `${text(d.recipient)}: into ${text(d.folder)}`,
  'to-be-scored': (d) => `${text(d.recipient)}: to be scored; see: tenedor rehearse message ${text(d.trial)}`,
  'integrity-checked': (d) => `stored data was verified: ${text(d.outcome)}`,
  'backup-made': (d) => `backup ${text(d.name)}: ${text(d.outcome)}`,
  'backup-failed': (d) => `no backup was made: ${text(d.outcome)}`,
  'backup-verified': (d) => `backup ${text(d.name)} was verified: ${text(d.outcome)}`,
  'backup-damaged': (d) => `backup ${text(d.name)} is damaged: ${text(d.outcome)}`,
  'address-moved': (d) =>
    `${text(d.address)} has moved${d.to === null ? '' : ` to ${text(d.to)}`}${d.forwardDays > 0 ? `; mail is forwarded for ${d.forwardDays} days` : ''}`,
  'move-forgotten': (d) => `the moved address ${text(d.address)} was removed; the address is free`,
  'move-begun': (d) =>
    `its migration from ${text(d.server)} was planned, with ${d.mailboxes} ${d.mailboxes === 1 ? 'mailbox' : 'mailboxes'}`,
  'move-step': (d) => `move: ${MOVE_STEP_TITLES[d.step]}: ${d.act}`,
  'move-ended': (d) => (d.isWhole ? 'its migration is complete' : 'its move plan was ended before its last step'),
  'transfer-begun': (d) => `${CARRIED[d.kind]} of ${text(d.subject)} begun: ${text(d.place)}`,
  'transfer-ended': (d) => `${CARRIED[d.kind]} of ${text(d.subject)} ${d.state === 'stopped' ? 'stopped' : 'ended'}: ${text(d.outcome)}`,
  'witness-invited': (d) => `${text(d.name)} got a one-time code to become a witness`,
  'witness-introduced': (d) => `${text(d.name)} and this host are each other’s witnesses`,
  'witness-removed': (d) => `${text(d.name)} is no longer a witness`,
  'rehearsed-for': (d) => `tested for ${text(d.name)}: ${text(d.kind)} ${text(d.subject)}`,
  relayed: (d) => `${text(d.recipient)}: ${place(d)} accepted it: ${text(d.reply)}`,
  delayed: (d) => `${text(d.recipient)}: ${d.host ? `${place(d)}: ` : ''}${text(d.reply)}`,
  failed: (d) => `${text(d.recipient)}: ${d.host ? `${place(d)}: ` : ''}${text(d.reply)}`,
  hurried: (d) => `${text(d.recipients)} waiting ${d.recipients === 1 ? 'recipient is' : 'recipients are'} to be tried immediately`,
  reporting: (d) => `report (${text(d.action) || 'failed'}) about journey ${text(d.about)}: ${list(d.recipients)}`,
  reported: (d) => `${text(d.to)} was notified (${text(d.action) || 'failed'}), in journey ${text(d.report)}`,
  'not-reported': (d) => `${text(d.to)} was not notified (${text(d.action) || 'failed'}): ${text(d.reason)}`,
  'domain-added': (d) => `added with the role ${text(d.role)} and the plan ${text(d.plan)} for ${text(d.customer)}`,
  'domain-changed': (d) =>
    `changed: ${Object.entries(d)
      .filter(([, value]) => value !== undefined)
      .map(([name, value]) => `${DOMAIN_WORDS[name] ?? name} ${Array.isArray(value) ? value.length : (value ?? 'none')}`)
      .join(', ')}`,
  'domain-removed': () => 'removed',
  'limit-set': (d) =>
    `limits of ${text(d.scope)} are now ${d.limits.map(limitLine).join(', ') || 'as before'}${d.whenFull ? `; when full: ${text(d.whenFull)}` : ''}`,
  'limit-raised': (d) => `limit of ${text(d.scope)} raised to ${limitLine(d)} until ${when(d.until)}: ${text(d.reason)}`,
  'limit-raise-ended': (d) => `raised limits of ${text(d.scope)} are back to normal`,
  'limit-warning': (d) => `${text(d.scope)} has used ${text(d.used)} of ${limitLine(d)} (${text(d.level)} %)`,
  paused: (d) => `${text(d.scope)} is paused (${stopWords(d)}): “${text(d.text)}”${heldWords(d.held)}`,
  resumed: (d) => `${text(d.scope)} is no longer paused; ${text(d.recipients)} held recipients are released`,
  'brake-set': (d) => `the brake of ${text(d.scope)} is set: ${text(d.text)}${heldWords(d.held)}`,
  'brake-released': (d) => `the brake of ${text(d.scope)} is released; ${text(d.recipients)} held recipients are released`,
  'unusual-sending': (d) =>
    `${text(d.scope)} sent ${text(d.sends)} in this hour; usual is ${text(d.usual)}, and anything above ${text(d.threshold)} is unusual`,
  'unusual-stopped': (d) => `${text(d.scope)} is stopped for unusual sending${heldWords(d.held)}`,
  'unusual-released': (d) => `${text(d.scope)} may send again; ${text(d.recipients)} held recipients are released`,
  'unusual-cleared': (d) => `${text(d.scope)} was checked: its sending is normal`,
  'queue-asked-for': (d) => `${text(d.client)} requested its waiting mail: ${text(d.recipients)} recipients`,
  'customer-added': (d) => `customer “${text(d.name)}” added`,
  'customer-changed': (d) => `customer “${text(d.before)}” is now “${text(d.name)}”, contact ${text(d.contact) || 'none'}`,
  'customer-removed': (d) => `customer “${text(d.name)}” removed`,
  'plan-added': (d) => `plan “${text(d.name)}” added`,
  'plan-changed': (d) => `plan “${text(d.name)}” changed: ${list(d.fields) || 'nothing'}`,
  'plan-removed': (d) => `plan “${text(d.name)}” removed`,
  'token-added': (d) => `API token “${text(d.name)}” created`,
  'token-removed': (d) => `API token “${text(d.name)}” revoked`,
  'spoke-early': (d) => `${text(d.client)} spoke before the greeting and was refused: ${text(d.reply)}`,
  'signed-in': (d) => `${text(d.account)} signed in to the console${d.code ? ' with a one-time code, and chose a password' : ''}`,
  'signed-out': (d) => `${text(d.account)} signed out`,
  'password-changed': (d) => `${text(d.account)} has a new password; ${text(d.ended)} other sessions ended`,
  'sessions-ended': (d) => `${text(d.account)} was signed out of ${text(d.ended)} other sessions`,
  'settings-taken-over': (d) =>
    `applied from the configuration file: ${list(d.keys)}${d.waiting === 0 ? '' : `; needs a restart: ${text(d.waiting)}`}`,
  'clock-realigned': (d) =>
    `times that were ${text(d.minutes)} minutes ahead were corrected: ${text(d.charges)} charges redated, none changed`,
  'text-lost': (d) => `the text of this message is ${text(d.how)}; restore the file ${text(d.file).slice(0, 16)}… from a backup`,
  'twin-set': (d) => `is now a twin of ${text(d.of)}`,
  'twin-removed': (d) => `is no longer a twin of ${text(d.of)}`,
  'outlet-added': (d) => `outlet “${text(d.name)}” added (${outletWords(d)})`,
  'outlet-changed': (d) => `outlet “${text(d.name)}” changed (${outletWords(d)}${d.password ? ', new password' : ''})`,
  'outlet-removed': (d) => `outlet “${text(d.name)}” removed`,
  'notices-set': (d) => `customers are notified by mail of: ${list(d.mail) || 'nothing'}`,
  'webhook-added': (d) => `${text(d.url)} is notified of ${list(d.events)}`,
  'webhook-removed': (d) => `${text(d.url)} is no longer notified`,
  'network-changed': (d) =>
    `the network ${text(d.cidr)} ${d.maySubmit ? `may send without signing in${list(d.domains) ? ` as ${list(d.domains)}` : ''}` : 'is trusted, and may not send without signing in'}`,
  'mailbox-added': (d) => `mailbox ${text(d.address)} added`,
  'mailbox-changed': (d) =>
    `mailbox ${text(d.address)} changed${d.password ? ' (new password)' : ''}${
      d.appPasswordsOnly === undefined ? '' : d.appPasswordsOnly ? '; only app passwords sign in now' : '; its own password signs in again'
    }${d.appPasswordsRevoked === undefined ? '' : `; ${text(d.appPasswordsRevoked)} app password${d.appPasswordsRevoked === 1 ? '' : 's'} revoked`}${
      d.copyTo === undefined ? '' : d.copyTo.length === 0 ? '; forwards no copies' : `; forwards copies to ${list(d.copyTo)}`
    }${d.copiesEnded === undefined ? '' : `; forwards no copies to ${text(d.copiesEnded)} , which was removed`}`,
  'mailbox-nearly-full': (d) => `${text(d.address)} uses 90 % of its quota and was notified`,
  'domain-nearly-full': () => 'the domain’s mailboxes use 90 % of its storage',
  'mailbox-brought-back': (d) => `mailbox ${text(d.address)} restored with its messages`,
  'mailbox-shared': (d) =>
    `${text(d.address)} is shared with ${text(d.member)}, as ${text(d.as)}${d.maySend ? ', who may send as it' : ''}`,
  'mailbox-unshared': (d) => `${text(d.address)} is no longer shared with ${text(d.member)}`,
  'folder-rights-changed': (d) =>
    `${text(d.address)}: ${text(d.member)} has ${d.rights === '' ? 'no rights' : `the rights ${text(d.rights)}`} in ${text(d.folder)}`,
  'shared-mailbox-used': (d) => `${text(d.by)} ${ACTS[d.act](messageCount(d.messages), text(d.folder))} (${text(d.address)})`,
  'removed-mailbox-deleted': (d) => `${text(d.address)}, removed before, was deleted for good`,
  'app-password-added': (d) => `${text(d.address)} has a password for “${text(d.name)}”`,
  'app-password-removed': (d) => `${text(d.address)}: the password for “${text(d.name)}” is revoked`,
  'retention-changed': (d) =>
    `${text(d.address)}: messages stay in ${text(d.folder)} ${d.days === null ? 'until somebody removes them' : `for ${text(d.days)} days`}`,
  'mailbox-removed': (d) => `mailbox ${text(d.address)} removed`,
  'alias-added': (d) => `alias ${text(d.address)} added, delivers to ${list(d.targets)}`,
  'alias-changed': (d) => `alias ${text(d.address)} now delivers to ${list(d.targets)}`,
  'alias-removed': (d) => `alias ${text(d.address)} removed`,
  'finding-changed': (d) =>
    `${SUBJECT_WORDS[d.subject]} became ${text(d.verdict)} (before: ${text(d.before) || 'not known'}): ${text(d.headline)}`,
  judged: (d) => {
    const { spf, helo, dkim, dmarc } = d;
    const signatures = dkim.map((one) => `${text(one.result)} for ${text(one.domain)} (${text(one.reason)})`).join(', ') || 'no signature';
    const said = spf.explanation ? `, which says: “${text(spf.explanation)}”` : '';
    const wanted = dmarc.result === 'fail' ? `, and the domain asks for ${text(dmarc.policy)}` : '';
    const end = d.trusted
      ? `; not applied, because ${text(d.trusted)} is a trusted network`
      : dmarc.result === 'fail' && d.judge === 'note'
        ? '; not applied, because the domain only notes it'
        : d.folder === 'Junk'
          ? '; filed as junk'
          : '';
    return `SPF ${text(spf.result)} for ${text(spf.domain)} (HELO ${text(helo.result)})${said}; DKIM ${signatures}; DMARC ${text(dmarc.result)} for ${text(dmarc.domain) || 'nobody'} (${text(dmarc.reason)})${wanted}${d.author === false ? '; From names no single author' : ''}${end}`;
  },
  'key-prepared': (d) => `DKIM key ${text(d.selector)} ${d.imported ? 'imported' : 'created'}; it does not sign yet`,
  'key-activated': (d) => `DKIM key ${text(d.selector)} signs from now on${d.force ? '; activated by force, without a DNS check' : ''}`,
  'key-retiring': (d) =>
    `DKIM key ${text(d.selector)} no longer signs; it stays published while messages with its signature may be in transit`,
  'key-retired': (d) => `DKIM key ${text(d.selector)} is retired${d.force ? ', by force before its time' : ''}`,
  'key-removed': (d) => `DKIM key ${text(d.selector)} removed`,
  'records-published': (d) => `zone ${text(d.zone)} updated: ${list(d.changes)}`,
  'zone-set': (d) => `updates of the zone go to ${text(d.server)} with the key ${text(d.keyName)}`,
  'certificate-added': (d) => `certificate of ${text(d.issuer)} added for ${list(d.names)}, good until ${day(d.until)}`,
  'certificate-fetched': (d) => `certificate for ${text(d.name)} fetched from ${text(d.issuer)}, good until ${day(d.until)}`,
  'certificate-failed': (d) => `no certificate for ${text(d.name)}: ${text(d.reason)}`,
  'certificate-removed': (d) => `certificate for ${list(d.names)} removed`,
  'zone-removed': () => 'the zone is no longer updated from here',
  'locked-out': (d) =>
    `${text(d.mailbox)} can't sign in for ${text(d.seconds)} seconds: ${text(d.failures)} wrong passwords, the last from ${text(d.client)}`,
  'lockout-lifted': (d) => `${text(d.name)} may sign in again immediately`,
  'network-added': (d) => `the network ${text(d.cidr)} is trusted${d.note ? ` (${text(d.note)})` : ''}`,
  'network-removed': (d) => `the network ${text(d.cidr)} is no longer trusted`,
};

function place(d: EventData['relayed']): string {
  return `${text(d.host)} [${text(d.address)}]${d.tls ? ` with ${d.tls === true ? 'TLS' : text(d.tls)}` : ''}${d.outlet && d.outlet !== 'direct' ? ` through “${text(d.outlet)}”` : ''}${d.note ? ` (${text(d.note)})` : ''}`;
}

/** Who did something, in words: `operator (console, 192.0.2.7)`. */
export const actorWords = ({
  account,
  token,
  face,
  address,
}: {
  account: string;
  token: string | null;
  face: string;
  address: string;
}): string => `${account} (${token === null ? face : `token “${token}”`}, ${address})`.replace(/\p{Cc}/gu, '�');

/** What happened, in words. Control characters of the outside are shown as marks, never as they are. */
export function entryWords(event: string, data: unknown): string {
  // The journal holds what its event's type says, for each event that it knows.
  const words = WORDS[event as EventName] as ((data: unknown) => string) | undefined;
  return (words?.(data) ?? event).replace(/\p{Cc}/gu, '�');
}
