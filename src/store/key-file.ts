import { createCipheriv, createDecipheriv, createHmac, randomBytes } from 'node:crypto';
import { closeSync, existsSync, fsyncSync, openSync, readFileSync, writeSync } from 'node:fs';
import type { Database } from './database.ts';
import { StoreError, startStep } from './open-data.ts';

const MARK = 'sealed:';
const NONCE = 12;
const TAG = 16;
/** Where sealed texts stand; the first two were readable in early versions. */
const SEALED = [
  ['dkim_key', 'private_key'],
  ['dns_zone', 'secret'],
  ['outlet', 'secret'],
  ['webhook', 'secret'],
  ['removed_domain_key', 'private_key'],
  ['answered_request', 'answer'],
  ['certificate', 'private_key'],
  ['authority_account', 'private_key'],
  ['witness', 'code'],
  ['transfer', 'asked'],
  ['move_plan', 'asked'],
] as const;

const KEY_OCTETS = 32;

/** Seals what must not lie readable in the database (AES-256-GCM), with the key of a file of its own. */
export class KeyFile {
  private constructor(private readonly key: Buffer) {}

  /** Opens the key file; the first start makes it. Where secrets were sealed already, a new key would open none of them. */
  static open(path: string, isNeeded = false): KeyFile {
    return startStep(`The key file ${path}`, () => KeyFile.read(path, isNeeded), 'Restore it from a backup.');
  }

  /** Whether anything in the database was sealed with a key file. */
  static isNeededBy(db: Database): boolean {
    return KeyFile.sampleIn((sql) => db.one(sql)) !== null;
  }

  /** Something that a database holds sealed; null where there is nothing. */
  static sampleIn(one: (sql: string) => { text: string } | undefined): string | null {
    for (const [table, column] of SEALED) {
      const found = one(`SELECT ${column} AS text FROM ${table} WHERE ${column} LIKE '${MARK}%' LIMIT 1`);
      if (found) return found.text;
    }
    return null;
  }

  /** The key of a file’s text; null for what holds none. */
  static fromText(text: string): KeyFile | null {
    const key = Buffer.from(text.trim(), 'base64');
    return key.length === KEY_OCTETS ? new KeyFile(key) : null;
  }

  private static read(path: string, isNeeded: boolean): KeyFile {
    if (!existsSync(path)) {
      if (isNeeded)
        throw new StoreError(
          `The key file ${path} is missing, and secrets in the database were sealed with it. Restore it from a backup; without it, keys and passwords can’t be read.`,
        );
      const file = openSync(path, 'wx', 0o600);
      writeSync(file, `${randomBytes(KEY_OCTETS).toString('base64')}\n`);
      fsyncSync(file);
      closeSync(file);
    }
    const file = KeyFile.fromText(readFileSync(path, 'utf8'));
    if (!file) throw new StoreError(`The key file ${path} does not hold a key of 32 octets in base64. Restore it from a backup.`);
    return file;
  }

  seal(text: string): string {
    const nonce = randomBytes(NONCE);
    const cipher = createCipheriv('aes-256-gcm', this.key, nonce);
    const sealed = Buffer.concat([cipher.update(text, 'utf8'), cipher.final()]);
    return `${MARK}${Buffer.concat([nonce, cipher.getAuthTag(), sealed]).toString('base64')}`;
  }

  /** Opens what was sealed; what never was is given back as it is. */
  open(text: string): string {
    if (!text.startsWith(MARK)) return text;
    const bytes = Buffer.from(text.slice(MARK.length), 'base64');
    try {
      const decipher = createDecipheriv('aes-256-gcm', this.key, bytes.subarray(0, NONCE));
      decipher.setAuthTag(bytes.subarray(NONCE, NONCE + TAG));
      return Buffer.concat([decipher.update(bytes.subarray(NONCE + TAG)), decipher.final()]).toString('utf8');
    } catch {
      throw new StoreError(
        'A secret in the database was sealed with another key file. Put the key file that belongs to this data in its place.',
      );
    }
  }

  /** A key for another purpose, which tells nothing of this one. */
  derived(purpose: string): Buffer {
    return createHmac('sha256', this.key).update(purpose).digest();
  }

  /** Seals what an earlier version left readable. */
  async sealAll(db: Database): Promise<void> {
    await db.commit(() => {
      for (const [table, column] of SEALED.slice(0, 2))
        for (const { id, text } of db.all<{ id: number; text: string }>(
          `SELECT id, ${column} AS text FROM ${table} WHERE ${column} NOT LIKE '${MARK}%' AND ${column} <> ''`,
        ))
          db.run(`UPDATE ${table} SET ${column} = ? WHERE id = ?`, this.seal(text), id);
    });
    // Whether it can open what is there: a wrong key file is an error of the start, not of the first message.
    for (const [table, column] of SEALED) {
      const one = db.one<{ text: string }>(`SELECT ${column} AS text FROM ${table} WHERE ${column} LIKE '${MARK}%' LIMIT 1`);
      if (one) this.open(one.text);
    }
  }
}
