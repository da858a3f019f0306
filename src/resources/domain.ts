import { FULL_MAILBOX, JUDGES, MAIL_NAMES } from '../core/vocabulary.ts';
import type { ChangesOf, Fields, ValuesOf } from './fields.ts';

const GIB = 1024 ** 3;

/** What of a domain can be set besides whose it is, its plan and its role. */
export const DOMAIN_FIELDS = {
  primaryServer: {
    kind: 'words',
    label: 'Server with its mailboxes',
    hint: 'Like mx.office.example or mx.office.example:2525. Empty with standby: found by MX.',
    about: 'With the roles pass-on and standby: the server with the mailboxes',
    option: '--to <host>',
    help: 'with pass-on or standby: the server with the mailboxes, or “mx” to find it by MX',
    none: 'mx',
    called: 'handed to',
  },
  catchAll: {
    kind: 'words',
    label: 'Catch-all',
    hint: 'Gets mail for unknown addresses; empty to refuse it.',
    option: '--catch-all <address>',
    help: 'address that gets mail for unknown addresses, or none',
    called: 'catch-all',
  },
  mostBytes: {
    kind: 'size',
    unit: 'MiB',
    least: 1024,
    most: GIB,
    label: 'Largest message, MiB',
    hint: 'To receive or send; empty for the server’s limit.',
    option: '--largest <size>',
    help: 'largest message to receive or send, like 10M, or none',
    called: 'largest message',
  },
  storageBytes: {
    kind: 'size',
    unit: 'GiB',
    least: 1024 ** 2,
    most: 1024 * GIB,
    label: 'Storage of all mailboxes, in GiB',
    about: 'Storage of all its mailboxes; null for no own limit',
    option: '--storage <size>',
    help: 'storage of all its mailboxes, like 50G, or none',
    called: 'storage in bytes',
  },
  storageMessages: {
    kind: 'count',
    most: 1_000_000_000,
    label: 'Messages in all mailboxes',
    option: '--storage-messages <number>',
    help: 'most messages in all its mailboxes, or none',
    called: 'stored messages',
  },
  fullMailbox: {
    kind: 'choice',
    of: FULL_MAILBOX,
    label: 'Mail for a full mailbox',
    hint: 'put off: the sender’s server retries for days (452 4.2.2); refuse: it bounces immediately (552 5.2.2).',
    about: 'Reply when a mailbox is full: 452 4.2.2, or 552 5.2.2',
    option: '--full-mailbox <what>',
    help: 'reply when a mailbox is full: temporary (452) or permanent (552)',
    called: 'full mailbox',
  },
  mailName: {
    kind: 'choice',
    of: MAIL_NAMES,
    label: 'Clients connect to',
    hint: 'Its own name gets a certificate once it points here. The host’s name needs nothing in the domain’s DNS.',
    about: 'Host name for its clients: mail.DOMAIN, with its own certificate, or the host’s',
    option: '--mail-name <which>',
    help: 'host name for its clients: mail.DOMAIN, or the host’s',
    called: 'host name for clients',
  },
  isSampled: {
    kind: 'yes-no',
    label: 'Score one sent message a day (Tests, Message score); only the score is stored',
    about: 'Whether one sent message a day is scored',
    option: '--sample <yes|no>',
    help: 'score one sent message a day (tenedor rehearse messages)',
    called: 'sampled',
  },
  judge: {
    kind: 'choice',
    of: JUDGES,
    label: 'Incoming mail that DMARC finds forged',
    hint: 'note: only noted in the message; junk: filed as junk; enforce: refused if the sender’s policy asks for it, otherwise junk.',
    about: 'What happens to incoming mail that DMARC finds forged',
    option: '--judge <what>',
    help: 'what happens to incoming mail that DMARC finds forged',
    called: 'judge',
  },
} as const satisfies Fields;

export type DomainSettings = ValuesOf<typeof DOMAIN_FIELDS>;
export type DomainSettingChanges = ChangesOf<typeof DOMAIN_FIELDS>;
