import { z } from 'zod';
import { IMAP_SECURITIES } from '../core/transfer/order.ts';
import { MAIL_FORMS, TRANSFER_KINDS, TRANSFER_STATES } from '../core/vocabulary.ts';
import { at, text } from './base-schemas.ts';

/** Shapes of mail that is carried: out of backups, here from elsewhere, and out of here. */

const numbers = {
  done: z.int().meta({ description: 'Messages checked' }),
  total: z.int().meta({ description: 'Expected total, if known' }),
  taken: z.int(),
  known: z.int().meta({ description: 'Already here' }),
  leftOut: z.int(),
  octets: z.int(),
};
export const transfer = z
  .object({
    id: z.int(),
    kind: z.enum(TRANSFER_KINDS),
    subject: z.string().meta({ description: 'The mailbox' }),
    place: z.string().meta({ description: 'Source or destination' }),
    startedAt: at,
    endedAt: at.nullable(),
    state: z.enum(TRANSFER_STATES),
    outcome: z.string(),
    mailboxes: z.int(),
    ...numbers,
  })
  .meta({ id: 'Transfer' });
export type Transfer = z.output<typeof transfer>;

export const transferDetails = transfer
  .extend({
    parts: z.array(
      z.object({
        part: z.int(),
        address: z.string(),
        folder: z.string().meta({ description: 'The current folder' }),
        ...numbers,
        isOver: z.boolean(),
        fault: z.string().nullable().meta({ description: 'What went wrong' }),
      }),
    ),
    leftOutList: z
      .array(z.object({ address: z.string(), folder: z.string(), what: z.string(), why: z.string() }))
      .meta({ description: 'The first thousand' }),
  })
  .meta({ id: 'TransferDetails' });
export type TransferDetails = z.output<typeof transferDetails>;

const address = z.string().min(3, 'an address').max(320, 'at most 320 characters');
const folder = z.string().min(1, 'not empty').max(400, 'at most 400 characters').nullable().default(null);
const path = z.string().min(1, 'a path').max(4000, 'at most 4000 characters').meta({ description: 'An absolute path on the server' });

export const recovery = z.strictObject({
  backup: text.nullable().default(null).meta({ description: 'The backup; null for the newest' }),
  target: text.nullable().default(null).meta({ description: 'A directory on the server other than the configured one' }),
  whose: z.string().min(1, 'an address or a domain').max(320).meta({ description: 'An address, or a domain for all of its mailboxes' }),
  folder: folder.meta({ description: 'Only this folder and its subfolders' }),
  into: address.nullable().default(null).meta({ description: 'Another mailbox as the target' }),
  isWhole: z.boolean('true or false').default(false).meta({ description: 'Include messages it still has' }),
});

export const filesImport = z.strictObject({
  path: path.meta({ description: 'An mbox, a message (.eml), a folder or a tar archive of those, or an export' }),
  into: address.nullable().default(null).meta({ description: 'The target mailbox; null for an export' }),
  folder: folder.meta({ description: 'Import below this folder' }),
});

const password = z.string().min(1, 'not empty').max(1024, 'at most 1024 characters');
const user = z.string().min(1, 'not empty').max(320, 'at most 320 characters');
export const imapImport = z.strictObject({
  host: z
    .string()
    .regex(/^(?=.{1,253}$)[A-Za-z0-9]([A-Za-z0-9.:-]*[A-Za-z0-9])?$/, 'a host name or an address')
    .meta({ description: 'The other server' }),
  port: z.int('a port').min(1, 'a port').max(65535, 'a port').nullable().default(null),
  security: z.enum(IMAP_SECURITIES, `one of ${IMAP_SECURITIES.join(', ')}`).default('tls'),
  fingerprint: z
    .string()
    .regex(/^[0-9A-Fa-f]{2}(:?[0-9A-Fa-f]{2}){31}$/, 'a SHA-256 in hexadecimal digits')
    .nullable()
    .default(null)
    .meta({ description: 'Of its certificate, if it is not trusted or has another name' }),
  accounts: z
    .array(z.strictObject({ user, password: password.nullable().default(null), into: address }))
    .min(1, 'at least one account')
    .max(5000, 'at most 5,000 accounts; make several lists'),
  master: z
    .strictObject({ user, password })
    .nullable()
    .default(null)
    .meta({ description: 'A user who can open every mailbox there (SASL PLAIN with an authorisation identity, RFC 4616)' }),
  atOnce: z.int('a whole number').min(1, 'at least 1').max(20, 'at most 20').default(3),
  untilQuietHours: z
    .int('a number of hours')
    .min(0, 'not below 0')
    .max(720, 'at most 720')
    .default(0)
    .meta({ description: 'Repeat every 15 minutes until nothing has arrived for this long; 0 for once' }),
  isTrial: z.boolean('true or false').default(false).meta({ description: 'Sign in and count messages; copy nothing' }),
  mibPerSecond: z.number('a number').min(0, 'not below 0').max(10_000, 'at most 10,000').default(0),
});

export const mailExport = z.strictObject({
  what: z.enum(['mailbox', 'domain', 'customer'], 'one of mailbox, domain, customer'),
  name: z.string().min(1, 'not empty').max(320, 'at most 320 characters'),
  path: path.meta({ description: 'A new or empty directory; with isArchive a new file' }),
  form: z.enum(MAIL_FORMS, `one of ${MAIL_FORMS.join(', ')}`).default('mbox'),
  isArchive: z.boolean('true or false').default(false),
  withHashes: z.boolean('true or false').default(false).meta({ description: 'Whether to include password hashes' }),
});

export const backupContentQuery = z.strictObject({
  address,
  backup: z.string().max(100).default('').meta({ description: 'The backup (default: the newest)' }),
});
export const backupContent = z
  .object({
    backup: z.string(),
    address: z.string(),
    folders: z.array(z.object({ folder: z.string(), messages: z.int(), bytes: z.int() })),
  })
  .meta({ id: 'BackupContent' });
export type BackupContent = z.output<typeof backupContent>;
