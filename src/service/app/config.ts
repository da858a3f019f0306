import { resolve } from 'node:path';
import { parse, TomlError } from 'smol-toml';
import { z } from 'zod';
import { parseDomain } from '../../core/address/domain.ts';
import { isIpAddress } from '../../core/address/ip-address.ts';
import { parseAddress } from '../../core/address/mailbox-address.ts';
import { isTimeZone } from '../../core/limits/calendar.ts';
import { lineOf } from './config-lines.ts';

/** A configuration file that is refused: key, line where known, what was expected. */
export class ConfigError extends Error {}

const ip = z.string().refine(isIpAddress, 'an IPv4 or IPv6 address');
const port = z.int('a port number').min(0, 'a port from 0 to 65535').max(65_535, 'a port from 0 to 65535');

const hostName = z
  .string()
  .refine((text) => parseDomain(text).kind === 'ok', 'a host name')
  .transform((text) => text.toLowerCase().replace(/\.$/, ''));

/** `address:port`, IPv6 in brackets. */
const endpoint = z.string().transform((text, issues) => {
  const found = /^(?:\[([0-9a-fA-F:.]+)\]|(\d+\.\d+\.\d+\.\d+)):(\d{1,5})$/.exec(text);
  const address = found?.[1] ?? found?.[2] ?? '';
  if (!found || !isIpAddress(address) || Number(found[3]) > 65_535) {
    issues.addIssue({ code: 'custom', message: 'an address and port like 127.0.0.1:53 or [::1]:53' });
    return z.NEVER;
  }
  return { address, port: Number(found[3]) };
});

export const LISTENER_SERVICES = ['smtp', 'submission', 'submissions', 'pop3', 'pop3s', 'imap', 'imaps', 'web', 'challenge'] as const;

const listener = z
  .strictObject({
    service: z.enum(LISTENER_SERVICES, `one of ${LISTENER_SERVICES.join(', ')}`),
    address: ip,
    port,
    proxy: z.boolean('true or false').default(false),
    tls: z.boolean('true or false').default(false),
    /** Further names under which the console is opened. */
    names: z
      .array(
        z
          .string()
          .max(253)
          .transform((name) => name.toLowerCase().replace(/\.$/, '')),
      )
      .default([]),
  })
  .refine((one) => one.names.length === 0 || one.service === 'web', { path: ['names'], message: 'allowed for web ports only' })
  // What would be passed over is refused: somebody relies on it.
  .refine((one) => !(one.proxy && (one.service === 'web' || one.service === 'challenge')), {
    path: ['proxy'],
    message: 'false: web and challenge ports do not support it',
  })
  .refine((one) => !(one.tls && one.service !== 'web'), {
    path: ['tls'],
    message: 'false: submissions, pop3s and imaps always speak TLS, the others offer it in the conversation',
  });

const pemFiles = z.strictObject({ certificate: z.string('the path of a file'), key: z.string('the path of a file') });

const configSchema = z.strictObject({
  data: z.string('the path of a directory').min(1, 'the path of a directory'),
  /** Who it becomes when root starts it (the program `tenedor`). */
  user: z
    .string()
    .regex(/^[a-z_][a-z0-9_-]{0,31}$/, 'the name of a user')
    .optional(),
  host: z.strictObject({
    name: z
      .string()
      .refine(
        (text) => parseDomain(text).kind === 'ok' && text.split('.').length >= 3,
        'a fully qualified host name below a domain, like mail.provider.example',
      ),
    addresses: z.array(ip, 'a list of addresses').min(1, 'at least one address'),
    time_zone: z.string().refine(isTimeZone, 'a time zone, like Europe/Madrid').default('UTC'),
    standby: z.array(hostName, 'a list of host names').default([]),
    outlet_includes: z.array(hostName, 'a list of domain names').default([]),
    postmaster: z.string().refine((text) => parseAddress(text).kind === 'ok', 'a mail address, for mail to postmaster and abuse'),
  }),
  listener: z.array(listener, 'at least one [[listener]]').min(1, 'at least one [[listener]]'),
  tls: pemFiles.optional(),
  certificate: z.array(pemFiles, 'a list of certificates').default([]),
  authority: z
    .strictObject({
      /** The address of an authority’s directory (RFC 8555 §7.1.1). */
      directory: z.url({ protocol: /^https$/, error: 'an https address' }),
      contact: z
        .string()
        .refine((text) => parseAddress(text).kind === 'ok', 'a mail address')
        .optional(),
      trusted_roots: z.string('the path of a file').optional(),
      binding_id: z.string('the value given by the authority').min(1).optional(),
      binding_key_file: z.string('the path of a file').optional(),
    })
    .refine((one) => (one.binding_id === undefined) === (one.binding_key_file === undefined), {
      path: ['binding_key_file'],
      message: 'both binding_id and binding_key_file, or neither',
    })
    .optional(),
  dns: z.strictObject({
    resolvers: z.array(endpoint, 'a list of name servers').min(1, 'at least one name server'),
    timeout_ms: z.int().min(50).max(30_000).default(2000),
    block_lists: z.array(hostName, 'a list of domain names').default([]),
    refuse_listed: z.array(hostName, 'a list of domain names').default([]),
  }),
  checks: z
    .strictObject({ every_minutes: z.int('a number of minutes').min(0, 'not below 0').max(10_080, 'at most 10080').default(60) })
    .prefault({}),
  mail: z
    .strictObject({
      max_message_mib: z.number('a number of MiB').min(0.01, 'more than 0').max(256, 'at most 256').default(32),
      greet_after_ms: z.int('a number of milliseconds').min(0, 'not below 0').max(60_000, 'at most 60000').default(300),
      trusted_roots: z.string('the path of a file').optional(),
    })
    .prefault({}),
  outgoing: z
    .strictObject({
      /** Whether smart hosts, other servers of domains, and webhooks may be on this machine. */
      to_this_machine: z.boolean('true or false').default(false),
    })
    .prefault({}),
  connections: z
    .strictObject({
      /** Of one address (of IPv6: of its 64 bits), to each port. */
      per_address: z.int('a whole number').min(1, 'at least 1').max(100_000, 'at most 100000').default(200),
    })
    .prefault({}),
  access: z
    .strictObject({
      /** Processes that speak IMAP and POP3; 0 for none but the service's own. */
      processes: z.int('a number of processes').min(0, 'not below 0').max(64, 'at most 64').optional(),
    })
    .prefault({}),
  mailboxes: z
    .strictObject({
      /** How long a removed mailbox can be brought back. */
      keep_removed_days: z.int('a number of days').min(0, 'not below 0').max(3660, 'at most 3660').default(30),
    })
    .prefault({}),
  backup: z
    .strictObject({
      /** A folder of its own; without one, backups are made only where somebody names a place. */
      target: z.string('the path of a directory').min(1).optional(),
      every_hours: z.int('a number of hours').min(0, 'not below 0').max(744, 'at most 744').default(24),
      verify_days: z.int('a number of days').min(0, 'not below 0').max(366, 'at most 366').default(7),
      /** How often all that is stored is looked at. */
      integrity_days: z.int('a number of days').min(0, 'not below 0').max(366, 'at most 366').default(7),
      mib_per_second: z.number('a number of MiB').min(0, 'not below 0').max(100_000, 'at most 100000').default(64),
      keep_daily: z.int('a number').min(0, 'not below 0').max(3660, 'at most 3660').default(7),
      keep_weekly: z.int('a number').min(0, 'not below 0').max(520, 'at most 520').default(5),
      keep_monthly: z.int('a number').min(0, 'not below 0').max(120, 'at most 120').default(12),
      passphrase_file: z.string('the path of a file').optional(),
      /** A bucket of an object store that is to hold what the folder holds. */
      bucket: z
        .strictObject({
          endpoint: z.url({ protocol: /^https?$/, error: 'an http or https address' }),
          region: z.string('a region').min(1).default('us-east-1'),
          name: z.string('the name of a bucket').regex(/^[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]$/, 'the name of a bucket'),
          prefix: z.string('a prefix for all names').max(200).default(''),
          access_key: z.string('the name of the key').min(1),
          secret_key_file: z.string('the path of a file'),
        })
        .optional(),
    })
    .prefault({}),
  secrets: z.strictObject({ key_file: z.string('the path of a file').default('secrets.key') }).prefault({}),
  journal: z
    .strictObject({
      keep_days: z.int('a number of days').min(1, 'at least 1').max(3660, 'at most 3660').default(400),
      most_entries: z.int('a number of entries').min(10_000, 'at least 10000').default(50_000_000),
    })
    .prefault({}),
  ledger: z
    .strictObject({
      // Limits look back a month, the usual of a sender six weeks.
      keep_days: z.int('a number of days').min(62, 'at least 62').max(36_600, 'at most 36600').default(1100),
    })
    .prefault({}),
  log: z
    .strictObject({
      level: z.enum(['debug', 'info', 'warn', 'error', 'silent'], 'one of debug, info, warn, error, silent').default('info'),
    })
    .prefault({}),
  dial: z.array(z.strictObject({ to: endpoint, through: endpoint, proxy: z.boolean('true or false').default(false) })).default([]),
});

export type Config = z.infer<typeof configSchema>;

/** All that is wrong with the text of a configuration file, a sentence each; none where it can be used. */
export function configFaults(text: string, file: string): string[] {
  const read = readToml(text, file);
  if (typeof read === 'string') return [read];
  const parsed = configSchema.safeParse(read.raw);
  return parsed.success ? [] : parsed.error.issues.flatMap((issue) => allWords(issue, read.raw, text, file));
}

/** What the file holds, or what is no TOML in it. */
function readToml(text: string, file: string): { raw: unknown } | string {
  try {
    return { raw: parse(text) };
  } catch (error) {
    if (!(error instanceof TomlError)) throw error;
    return `${file}, line ${error.line}: this is not TOML: ${error.message.split('\n')[0]?.replace(/^Invalid TOML document: /, '')}.`;
  }
}

type Issue = z.core.$ZodIssue;

/** One issue names several keys that are not known. */
const allWords = (issue: Issue, raw: unknown, text: string, file: string): string[] =>
  issue.code === 'unrecognized_keys'
    ? issue.keys.map((key) => issueWords({ ...issue, keys: [key] }, raw, text, file))
    : [issueWords(issue, raw, text, file)];

function issueWords(issue: Issue, raw: unknown, text: string, file: string): string {
  const { path } = issue;
  const unknown = issue.code === 'unrecognized_keys' ? issue.keys[0] : undefined;
  const key = unknown === undefined ? path : [...path, unknown];
  const line = lineOf(text, key);
  const where = `${file}${line === null ? '' : `, line ${line}`}: ${key
    .map((part) => (typeof part === 'number' ? `[${part + 1}]` : String(part)))
    .join('.')
    .replaceAll('.[', '[')}`;
  if (unknown !== undefined) return `${where}: there is no such key.`;
  const value = path.reduce<unknown>((inner, part) => (inner as Record<PropertyKey, unknown> | undefined)?.[part], raw);
  const expected = issue.message.replace(/^Invalid input: expected /, '').replace(/, received .*/, '');
  return value === undefined
    ? `${where} is missing; expected ${expected}.`
    : `${where}: expected ${expected}, found ${JSON.stringify(value).slice(0, 80)}.`;
}

/** Reads the text of a configuration file; relative paths are meant from `folder`. */
export function parseConfig(text: string, file: string, folder: string): Config {
  const read = readToml(text, file);
  if (typeof read === 'string') throw new ConfigError(read);
  const parsed = configSchema.safeParse(read.raw);
  if (!parsed.success) throw new ConfigError(parsed.error.issues.map((issue) => issueWords(issue, read.raw, text, file))[0] ?? '');
  const config = parsed.data;
  const mail = config.host.postmaster.toLowerCase();
  const inFolder = (file: string): string => resolve(folder, file);
  const files = (one: z.infer<typeof pemFiles>) => ({ certificate: inFolder(one.certificate), key: inFolder(one.key) });
  const { authority } = config;
  return {
    ...config,
    data: resolve(folder, config.data),
    secrets: { key_file: resolve(folder, config.data, config.secrets.key_file) },
    backup: {
      ...config.backup,
      // With a bucket alone, what is sent there is made in the data directory, where texts are links and take no room.
      ...(config.backup.target
        ? { target: resolve(folder, config.backup.target) }
        : config.backup.bucket
          ? { target: resolve(folder, config.data, 'backups') }
          : {}),
      ...(config.backup.passphrase_file ? { passphrase_file: resolve(folder, config.backup.passphrase_file) } : {}),
      ...(config.backup.bucket
        ? { bucket: { ...config.backup.bucket, secret_key_file: resolve(folder, config.backup.bucket.secret_key_file) } }
        : {}),
    },
    mail: { ...config.mail, ...(config.mail.trusted_roots ? { trusted_roots: resolve(folder, config.mail.trusted_roots) } : {}) },
    host: { ...config.host, name: config.host.name.toLowerCase().replace(/\.$/, ''), postmaster: mail },
    ...(config.tls ? { tls: files(config.tls) } : {}),
    certificate: config.certificate.map(files),
    ...(authority
      ? {
          authority: {
            ...authority,
            ...(authority.trusted_roots ? { trusted_roots: inFolder(authority.trusted_roots) } : {}),
            ...(authority.binding_key_file ? { binding_key_file: inFolder(authority.binding_key_file) } : {}),
          },
        }
      : {}),
  };
}
