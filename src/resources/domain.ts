import { FULL_MAILBOX, JUDGES, MAIL_NAMES } from '../core/vocabulary.ts';
import type { ChangesOf, Fields, ValuesOf } from './fields.ts';

const GIB = 1024 ** 3;

/** What of a domain can be set besides whose it is, its plan and its role. */
export const DOMAIN_FIELDS = {
  primaryServer: {
    kind: 'words',
    label: 'The server that has its mailboxes',
    hint: 'Like mx.office.example or mx.office.example:2525. Empty with standby: found by MX.',
    about: 'With the roles pass-on and standby: the server that has the mailboxes',
    option: '--to <host>',
    help: 'with pass-on or standby: the server that has the mailboxes; mx finds it by MX',
    none: 'mx',
    called: 'handed to',
  },
  catchAll: {
    kind: 'words',
    label: 'Catch-all',
    hint: 'Where mail for unknown addresses goes; empty for nowhere.',
    option: '--catch-all <address>',
    help: 'where mail for unknown addresses goes, or none',
    called: 'catch-all',
  },
  mostBytes: {
    kind: 'size',
    unit: 'MiB',
    least: 1024,
    most: GIB,
    label: 'Largest message, MiB',
    hint: 'To receive or to send; empty for the server’s own limit.',
    option: '--largest <size>',
    help: 'the largest message that it takes or sends, like 10M, or none',
    called: 'largest message',
  },
  storageBytes: {
    kind: 'size',
    unit: 'GiB',
    least: 1024 ** 2,
    most: 1024 * GIB,
    label: 'Storage of all mailboxes, in GiB',
    about: 'What its mailboxes may store together; null for no limit of its own',
    option: '--storage <size>',
    help: 'what its mailboxes may store together, like 50G, or none',
    called: 'storage in bytes',
  },
  storageMessages: {
    kind: 'count',
    most: 1_000_000_000,
    label: 'Messages in all mailboxes',
    option: '--storage-messages <number>',
    help: 'how many messages they may store together, or none',
    called: 'stored messages',
  },
  fullMailbox: {
    kind: 'choice',
    of: FULL_MAILBOX,
    label: 'Mail for a full mailbox',
    hint: 'put off: its sender tries again for days (452 4.2.2); refuse: it goes back at once (552 5.2.2).',
    about: 'What a full mailbox says to mail: 452 4.2.2, or 552 5.2.2',
    option: '--full-mailbox <what>',
    help: 'what a full mailbox says to mail: come again (452), or no (552)',
    called: 'full mailbox',
  },
  mailName: {
    kind: 'choice',
    of: MAIL_NAMES,
    label: 'Mail programs connect to',
    hint: 'A name of its own has a certificate of its own, fetched once the name leads here. The host’s name needs nothing in the domain’s DNS.',
    about: 'By which name its people connect: mail.DOMAIN, with a certificate of its own, or the host’s',
    option: '--mail-name <which>',
    help: 'by which name its people connect: mail.DOMAIN, or the host’s',
    called: 'host name for clients',
  },
  isSampled: {
    kind: 'yes-no',
    label: 'Score a message that it sends every day (Tests, What a message is worth); nothing of it is kept',
    about: 'Whether a message that it sends is scored every day',
    option: '--sample <yes|no>',
    help: 'score a message that it sends every day (tenedor rehearse messages)',
    called: 'sampled',
  },
  judge: {
    kind: 'choice',
    of: JUDGES,
    label: 'Incoming mail that DMARC finds forged',
    hint: 'note: only noted in the message; junk: filed as junk; enforce: refused where its domain asks for that, else junk.',
    about: 'What happens to incoming mail that DMARC finds forged',
    option: '--judge <what>',
    help: 'what happens to incoming mail that DMARC finds forged',
    called: 'judge',
  },
} as const satisfies Fields;

export type DomainSettings = ValuesOf<typeof DOMAIN_FIELDS>;
export type DomainSettingChanges = ChangesOf<typeof DOMAIN_FIELDS>;
