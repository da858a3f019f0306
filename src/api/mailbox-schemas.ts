import { z } from 'zod';
import { SPECIAL_USES } from '../core/mailbox/operations.ts';
import { LISTS, MEMBER_ROLES } from '../core/vocabulary.ts';
import { at, bytes, messages, revision, text } from './base-schemas.ts';

/** The shapes of mailboxes, their folders and passwords. */

export const mailbox = z
  .object({
    address: z.string(),
    local: z.string(),
    domain: z.string(),
    name: z.string().nullable().meta({ description: 'The owner’s name' }),
    quotaBytes: z.int(),
    usedBytes: z.int(),
    quotaMessages: z.int().nullable().meta({ description: 'Most messages it may have; null for no limit' }),
    messages: z.int(),
    shared: z.boolean().meta({ description: 'Whether it is shared: without a password, opened by its members' }),
    appPasswordsOnly: z.boolean().meta({ description: 'Whether only app passwords can sign in' }),
    copyTo: z.array(z.string()).meta({ description: 'Addresses that get copies of its mail' }),
    pop3Junk: z.boolean().meta({ description: 'Whether POP3 includes junk, marked in the subject' }),
    createdAt: at,
    revision,
  })
  .meta({ id: 'Mailbox' });
export const removedMailbox = z
  .object({
    id: z.int(),
    address: z.string(),
    removedAt: at,
    keptUntil: at.meta({ description: 'It can be restored until then' }),
    messages: z.int(),
    usedBytes: z.int(),
  })
  .meta({ id: 'RemovedMailbox' });
export const broughtBack = z
  .object({
    mailbox,
    aliasesLeft: z.array(z.string()).meta({ description: 'Former aliases whose addresses are now in use' }),
  })
  .meta({ id: 'BroughtBack' });
export const mailboxContents = z
  .object({
    folders: z.array(
      z.object({
        name: z.string(),
        specialUse: z.enum(SPECIAL_USES).nullable(),
        messages: z.int(),
        unseen: z.int(),
        bytes: z.int(),
        keepDays: z.int().nullable().meta({ description: 'Days that messages stay; null for always' }),
      }),
    ),
    sessions: z
      .array(z.object({ service: z.enum(['IMAP', 'POP3']), client: z.string(), program: z.string().nullable(), since: at }))
      .meta({ description: 'Signed-in clients' }),
  })
  .meta({ id: 'MailboxContents' });
export const appPassword = z
  .object({
    name: z.string(),
    createdAt: at,
    usedAt: at.nullable(),
    usedFrom: z.string().nullable(),
    program: z.string().nullable().meta({ description: 'The client that last used it' }),
  })
  .meta({ id: 'AppPassword' });
export const newAppPassword = z.strictObject({ name: text });
export const newAppPasswordResult = z.object({ name: z.string(), password: z.string().meta({ description: 'Shown only once' }) });
export const retention = z.strictObject({
  folder: text,
  keepDays: z.int('a whole number of days').min(1, 'at least 1').max(36_500, 'at most 36500').nullable(),
});
export const mailboxResult = z.object({
  mailbox,
  password: z.string().nullable().meta({ description: 'The generated password, shown only once' }),
  appPasswords: z.int().meta({ description: 'Number of app passwords' }),
});
export const newMailbox = z.strictObject({
  address: text,
  password: z.string().max(1024).nullable().default(null),
  quotaBytes: bytes.nullable().default(null),
  quotaMessages: messages.nullable().default(null),
  name: text.nullable().default(null),
  shared: z.boolean().default(false).meta({ description: 'Shared: without a password, opened by its members' }),
});
export const mailboxChanges = z.strictObject({
  password: z.string().max(1024).nullable().optional(),
  quotaBytes: bytes.optional(),
  quotaMessages: messages.nullable().optional(),
  name: text.nullable().optional(),
  appPasswordsOnly: z.boolean().optional(),
  pop3Junk: z.boolean().optional(),
  copyTo: z.array(text, 'a list of addresses').max(100).optional(),
  revokeAppPasswords: z.boolean().optional().meta({ description: 'Whether to revoke its app passwords' }),
});

export const member = z
  .object({
    address: z.string(),
    as: z.enum(MEMBER_ROLES).nullable().meta({ description: 'null when single rights were changed' }),
    rights: z.string().meta({ description: 'As in RFC 4314' }),
    maySend: z.boolean().meta({ description: 'Whether the member may send as the shared mailbox' }),
    since: at,
  })
  .meta({ id: 'Member' });
export const newMember = z.strictObject({
  member: text,
  as: z.enum(MEMBER_ROLES, `one of ${MEMBER_ROLES.join(', ')}`).default('writer'),
  maySend: z.boolean().default(false),
});

const list = z.string('the text of a list').min(1, 'the text of a list').max(1_000_000, 'at most 1 MB').nullable().default(null);
export const lists = z.strictObject({
  customers: list.meta({ description: 'CSV with the columns customer, contact' }),
  domains: list.meta({ description: 'CSV with the columns domain, customer, plan, role, to' }),
  mailboxes: list.meta({ description: 'CSV with the columns address, name, quota, password, hash, aliases' }),
  trial: z.boolean().default(false).meta({ description: 'Check the lists, and add nothing' }),
});
export const listsResult = z
  .object({
    loaded: z.object({ customers: z.int(), domains: z.int(), mailboxes: z.int() }).meta({ description: 'Number added: all or none' }),
    id: z.string().meta({ description: 'Ask again with it while it is running' }),
    isOver: z.boolean(),
    done: z.int().meta({ description: 'Finished rows' }),
    total: z.int(),
    faults: z.array(z.object({ list: z.enum(LISTS), line: z.int(), text: z.string() })),
    passwords: z
      .array(z.object({ address: z.string(), password: z.string() }))
      .meta({ description: 'Generated passwords, shown only once' }),
  })
  .meta({ id: 'ListsResult' });

export type Mailbox = z.infer<typeof mailbox>;
export type AppPassword = z.infer<typeof appPassword>;
export type MailboxContents = z.infer<typeof mailboxContents>;
export type RemovedMailbox = z.infer<typeof removedMailbox>;
export type BroughtBack = z.infer<typeof broughtBack>;
export type Member = z.infer<typeof member>;
export type ListsResult = z.infer<typeof listsResult>;
export type MailboxResult = z.infer<typeof mailboxResult>;

export const settingsSheet = z
  .object({
    address: z.string(),
    settings: z.array(
      z.object({
        service: z.string(),
        use: z.enum(['reading', 'sending']),
        protocol: z.enum(['IMAP', 'POP3', 'SMTP']),
        server: z.string(),
        port: z.int(),
        security: z.enum(['TLS', 'STARTTLS']),
      }),
    ),
    text: z.string(),
    page: z.string().meta({ description: 'A self-contained HTML page to print' }),
    code: z.string().meta({ description: 'The QR code as SVG' }),
    warning: z.string().nullable().meta({ description: 'Problems that clients will report' }),
  })
  .meta({ id: 'SettingsSheet' });
export type SettingsSheet = z.output<typeof settingsSheet>;
export const settingsMail = z.strictObject({ to: text });
export const settingsMailed = z.object({ journey: z.string() });
