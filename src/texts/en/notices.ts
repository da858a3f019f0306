import { limitText } from './limits.ts';

/** A notice to somebody: what its mail says. */
export interface NoticeText {
  subject: string;
  lines: readonly string[];
}

/** What is stored of what may be, in octets and messages; null for no limit. */
export interface Stored {
  bytes: number;
  mostBytes: number | null;
  messages: number;
  mostMessages: number | null;
}

/** Notices to customers and mailbox owners, by event; and what is said of a sender that was stopped. */
export const NOTICES = {
  limitReached: (name: string, limit: Parameters<typeof limitText>[0], used: string, level: 80 | 100, waits: boolean): NoticeText => ({
    subject: `${name} has used ${level === 100 ? 'all' : `${level} %`} of its limit`,
    lines: [
      `${used} of ${limitText(limit)} are used.`,
      level < 100
        ? 'Nothing is refused yet.'
        : waits
          ? 'New messages wait until there is room.'
          : 'New messages are refused until there is room.',
    ],
  }),
  mailboxNearlyFull: (address: string, stored: Stored): NoticeText => ({
    subject: 'Your mailbox is nearly full',
    lines: [
      `${address} uses ${usedOf(stored)}.`,
      '',
      'When it is full, it cannot receive new mail. To make room, remove messages you',
      'no longer need, large attachments first, and empty the folders Trash and Junk.',
      'If you need more room, ask your provider.',
    ],
  }),
  domainNearlyFull: (domain: string, stored: Stored): NoticeText => ({
    subject: `The mailboxes of ${domain} are nearly full`,
    lines: [`${domain} uses ${usedOf(stored)}.`, 'When it is full, none of its mailboxes can receive mail until there is room again.'],
  }),
  brakeSet: (name: string, failed: number, ended: number): NoticeText => ({
    subject: `The brake of ${name} is set`,
    lines: [
      `${failed} of the ${ended} messages that ended within the last hour failed for good.`,
      'Sending is stopped and waiting mail is held until the provider has checked it.',
    ],
  }),
  unusualSending: (mailbox: string, sends: number, usual: number, isStopped: boolean): NoticeText => ({
    subject: `${mailbox} sends far more than usual`,
    lines: [
      `${sends} sends in this hour; usual at this hour of the week: ${usual}.`,
      isStopped
        ? 'Its sending is stopped until the provider has checked it.'
        : 'Nothing was stopped. If this is not expected, change its password.',
    ],
  }),
} as const;

/** What SMTP replies say to a stopped sender; ASCII. */
export const STOPPED = {
  brake: (name: string, failed: number, ended: number): string =>
    `Sending of ${name} is stopped: ${failed} of ${ended} sends failed within an hour; the provider is checking`,
  unusual: (mailbox: string): string => `Sending of ${mailbox} is stopped: it sent far more than usual; the provider is checking`,
} as const;

/** `95 % of its storage (95 MiB of 100 MiB)`, of octets or messages, whichever is nearer its end. */
export function usedOf({ bytes, mostBytes, messages, mostMessages }: Stored): string {
  const [ofBytes, ofMessages] = [mostBytes === null ? 0 : bytes / mostBytes, mostMessages === null ? 0 : messages / mostMessages];
  const percent = `${Math.floor(100 * Math.max(ofBytes, ofMessages))} % of its storage`;
  return ofMessages > ofBytes
    ? `${percent} (${messages.toLocaleString('en')} of ${mostMessages?.toLocaleString('en')} messages)`
    : `${percent} (${mebibytes(bytes)} of ${mebibytes(mostBytes ?? 0)})`;
}

const mebibytes = (bytes: number): string => `${(bytes / 1024 ** 2).toLocaleString('en', { maximumFractionDigits: 1 })} MiB`;
