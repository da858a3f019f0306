import { z } from 'zod';
import { ALL_SUBJECTS, KEY_STATES, KEY_TYPES, SUBJECTS, TSIG_ALGORITHMS, VERDICTS } from '../core/vocabulary.ts';
import { at, policy, role, text } from './base-schemas.ts';

/** Shapes of records, checks, keys, zones and the host. */

export const verdict = z.enum(VERDICTS);
export const domainSubject = z.enum(SUBJECTS);
export const subject = z.enum(ALL_SUBJECTS);

const recordType = z.enum(['MX', 'TXT', 'SRV', 'A', 'AAAA', 'PTR']);
export const record = z
  .object({
    subject,
    type: recordType,
    name: z.string(),
    relativeName: z.string().nullable().meta({ description: 'The name for a form that appends the zone' }),
    value: z.string(),
    quoted: z.string().nullable().meta({ description: 'The value as quoted strings of at most 255 bytes; null if not a TXT record' }),
    where: z.enum(['domain', 'host', 'address-owner']),
  })
  .meta({ id: 'Record' });
const nextStage = z.object({ stage: policy, due: z.boolean(), dueAt: at.nullable(), reason: z.string() });
export const recordSheet = z.object({
  domain: z.string(),
  records: z.array(record),
  zone: z.string(),
  notes: z.array(z.string()),
  dmarc: z.object({ stage: policy, next: nextStage.nullable() }),
  request: z.string().meta({ description: 'The text of the request for reverse DNS' }),
  updates: z.string().nullable().meta({ description: 'The configured zone, if it can be updated' }),
});
export const domainLetter = z
  .object({
    domain: z.string(),
    customer: z.string(),
    contact: z.string().nullable(),
    checkedAt: at,
    letter: z
      .object({ subject: z.string(), text: z.string(), about: z.array(z.string()) })
      .nullable()
      .meta({ description: 'Letter about the DNS changes; null if none are known' }),
    unknown: z.array(subject).meta({ description: 'Subjects without an answer from DNS' }),
  })
  .meta({ id: 'DomainLetter' });
export const letterToWrite = z
  .object({
    domain: z.string(),
    customer: z.string(),
    contact: z.string().nullable(),
    checkedAt: at,
    about: z.array(z.string()).meta({ description: 'What needs changes: MX, SPF …' }),
  })
  .meta({ id: 'LetterToWrite' });
const zoneChange = z.object({ action: z.enum(['add', 'remove']), type: recordType, name: z.string(), value: z.string() });
export const publication = z
  .object({ domain: z.string(), zone: z.string(), server: z.string(), changes: z.array(zoneChange), published: z.boolean() })
  .meta({ id: 'Publication' });
export const publishOptions = z.strictObject({ dryRun: z.boolean().default(false) });
export const publicationOfAll = z.object({
  publications: z.array(publication),
  failures: z.array(z.object({ domain: z.string(), reason: z.string() })),
  leftOut: z.array(z.string()),
});

export const finding = z
  .object({
    subject,
    code: z.string(),
    verdict,
    headline: z.string(),
    name: z.string(),
    expected: z.array(z.string()),
    seen: z.array(z.string()),
    why: z.string(),
    remedy: z.string(),
    forCustomer: z.string().optional().meta({ description: 'The customer’s part of the remedy; empty if it is the provider’s' }),
    publish: z.array(record),
    evidence: z
      .array(z.object({ by: z.string(), type: z.string(), name: z.string(), answer: z.string(), ttl: z.int().nullable() }))
      .meta({ description: 'Each query and its answer' }),
    secondsLeft: z.int().nullable().meta({ description: 'While waiting: when the last cached answer expires' }),
    until: at.nullable().meta({ description: 'While waiting: expected end, from when it was first seen' }),
    worth: z.int(),
    earned: z.int(),
  })
  .meta({ id: 'Finding' });
export const checkReport = z
  .object({ domain: z.string(), role, checkedAt: at, readiness: z.int().nullable(), good: z.boolean(), findings: z.array(finding) })
  .meta({ id: 'CheckReport' });
export const checkOptions = z.strictObject({
  resolver: text.optional().meta({ description: 'Compare with this resolver instead, and store nothing' }),
});
export const lastCheck = z.object({ report: checkReport.nullable() });
const change = z.object({ domain: z.string().nullable(), subject, verdict, before: verdict.nullable(), headline: z.string() });
export const checkSummary = z.object({
  checkedAt: at,
  verdicts: z.partialRecord(verdict, z.int()),
  domains: z.array(
    z.object({
      domain: z.string(),
      role,
      readiness: z.int().nullable(),
      good: z.boolean(),
      findings: z.array(z.object({ subject, verdict, headline: z.string(), code: z.string() })),
    }),
  ),
  changes: z.array(change),
});
export const checkRun = z
  .object({
    id: z.int(),
    startedAt: at,
    total: z.int(),
    done: z.int(),
    finishedAt: at.nullable(),
    failure: z.string().nullable(),
    summary: checkSummary.nullable(),
  })
  .meta({ id: 'CheckRun' });
export const latestRun = z.object({ run: checkRun.nullable() });
export const findingChange = z
  .object({
    id: z.int(),
    at,
    subject,
    verdict,
    code: z.string(),
    headline: z.string(),
    beforeVerdict: verdict.nullable(),
    beforeCode: z.string().nullable(),
  })
  .meta({ id: 'FindingChange' });
export const historyQuery = z.strictObject({
  limit: z.coerce.number().int().min(1).max(500).default(500),
  before: z.coerce.number().int().optional().meta({ description: 'Only entries before this id: for the next page' }),
});
export const checkHistory = z.object({ rows: z.array(findingChange) });

export const key = z
  .object({
    id: z.int(),
    selector: z.string(),
    type: z.enum(KEY_TYPES),
    publicKey: z.string(),
    state: z.enum(KEY_STATES),
    createdAt: at,
    changedAt: at,
    retireAt: at.nullable(),
    record,
    next: z.string(),
  })
  .meta({ id: 'Key' });
export const newKey = z.strictObject({
  type: z.enum(KEY_TYPES, 'one of rsa, ed25519').default('rsa'),
  selector: text.nullable().default(null),
  pem: z
    .string()
    .max(20_000, 'at most 20,000 characters')
    .nullable()
    .default(null)
    .meta({ description: 'A private key to import; it is never shown again' }),
});
export const force = z.strictObject({ force: z.boolean().default(false) });

const spfStep = z.object({
  depth: z.int(),
  domain: z.string(),
  kind: z.enum(['record', 'term']),
  text: z.string(),
  asked: z.array(z.object({ type: z.string(), name: z.string(), answer: z.string() })),
  lookups: z.int(),
  outcome: z.enum(['match', 'no-match', 'result', 'error']),
  note: z.string(),
});
export const spfExplanation = z
  .object({
    domain: z.string(),
    clientAddress: z.string(),
    sender: z.string(),
    result: z.enum(['none', 'neutral', 'pass', 'fail', 'softfail', 'temperror', 'permerror']),
    term: z.string().nullable(),
    reason: z.string(),
    lookups: z.int(),
    explanation: z.string().nullable(),
    steps: z.array(spfStep),
  })
  .meta({ id: 'SpfExplanation' });
export const spfQuery = z.strictObject({ ip: text.optional(), sender: text.optional() });

export const zone = z
  .object({ id: z.int(), name: z.string(), server: z.string(), port: z.int(), keyName: z.string(), algorithm: z.string(), createdAt: at })
  .meta({ id: 'Zone' });
export const zoneInput = z.strictObject({
  name: text,
  server: text,
  port: z.int('a port number').min(1, 'a port from 1').max(65_535, 'a port up to 65535').default(53),
  keyName: text,
  algorithm: z.enum(TSIG_ALGORITHMS, `one of ${TSIG_ALGORITHMS.join(', ')}`).default('hmac-sha256'),
  secret: text.meta({ description: 'The key in base64; it is never shown again' }),
});

export const hostReport = z.object({
  name: z.string(),
  addresses: z.array(z.string()),
  standby: z.array(z.string()),
  postmaster: z.string(),
  records: z.array(record),
  request: z.string(),
  blockLists: z.array(z.string()),
  checkedAt: at,
  good: z.boolean(),
  findings: z.array(finding),
});

export type SheetRecord = z.infer<typeof record>;
export type LetterToWrite = z.infer<typeof letterToWrite>;
export type DomainLetter = z.infer<typeof domainLetter>;
export type RecordSheet = z.infer<typeof recordSheet>;
export type Finding = z.infer<typeof finding>;
export type CheckReport = z.infer<typeof checkReport>;
export type CheckSummary = z.infer<typeof checkSummary>;
export type CheckRun = z.infer<typeof checkRun>;
export type FindingChange = z.infer<typeof findingChange>;
export type Key = z.infer<typeof key>;
export type SpfExplanation = z.infer<typeof spfExplanation>;
export type Zone = z.infer<typeof zone>;
export type Publication = z.infer<typeof publication>;
export type PublicationOfAll = z.infer<typeof publicationOfAll>;
export type HostReport = z.infer<typeof hostReport>;
