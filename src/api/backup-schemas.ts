import { z } from 'zod';
import { UPKEEP_KINDS } from '../core/vocabulary.ts';
import { at, text } from './base-schemas.ts';

/** Shapes of backups. */

const counts = z.object({ domains: z.int(), mailboxes: z.int(), messages: z.int(), waiting: z.int() });
export const backup = z
  .object({
    name: z.string(),
    at: at.meta({ description: 'The moment of its data' }),
    version: z.string().meta({ description: 'The version of Tenedor that made it' }),
    size: z.int().meta({ description: 'Size of the database and all messages, including shared ones' }),
    texts: z.int(),
    textSize: z.int(),
    counts,
    lost: z.int().meta({ description: 'Missing message texts' }),
    hasKey: z.boolean().meta({ description: 'Whether the key file is in it, sealed with a passphrase' }),
  })
  .meta({ id: 'Backup' });
export type Backup = z.output<typeof backup>;

export const upkeepRun = z
  .object({
    id: z.int(),
    kind: z.enum(UPKEEP_KINDS),
    target: z.string().nullable().meta({ description: 'Directory of backups; null for a verification of stored data' }),
    name: z.string().nullable(),
    isByHand: z.boolean(),
    startedAt: at,
    endedAt: at.nullable(),
    isGood: z.boolean().nullable(),
    outcome: z.string(),
  })
  .meta({ id: 'UpkeepRun' });
export type UpkeepRun = z.output<typeof upkeepRun>;

export const backupUnderWay = z
  .object({
    kind: z.enum(UPKEEP_KINDS),
    target: z.string().nullable(),
    name: z.string().nullable(),
    startedAt: at,
    done: z.number(),
    total: z.number().meta({ description: 'Bytes of the database, then messages' }),
  })
  .meta({ id: 'BackupUnderWay' });
export const backupState = z
  .object({
    target: z.string().nullable().meta({ description: 'The configured directory; null if none' }),
    everyHours: z.int(),
    verifyDays: z.int(),
    keep: z.object({ daily: z.int(), weekly: z.int(), monthly: z.int() }),
    isKeySealed: z.boolean(),
    bucket: z.string().nullable().meta({ description: 'An object store with a second copy' }),
    lastGood: upkeepRun.nullable(),
    last: upkeepRun.nullable(),
    lastVerified: upkeepRun.nullable(),
    lastIntegrity: upkeepRun.nullable().meta({ description: 'The last verification of stored data' }),
    dueAt: at.nullable(),
    isOverdue: z.boolean(),
    underWay: backupUnderWay.nullable(),
  })
  .meta({ id: 'BackupState' });
export type BackupState = z.output<typeof backupState>;

const target = text.nullable().default(null).meta({ description: 'A directory on the server other than the configured one' });
export const newBackup = z.strictObject({ target });
export const backupProof = z.strictObject({ target, name: text });
export const integrityLook = z.strictObject({ isRepairing: z.boolean('true or false').default(false) });
