import { createPrivateKey, generateKeyPair, type KeyObject, sign } from 'node:crypto';
import { promisify } from 'node:util';
import { prepareSignature } from '../core/dkim/sign.ts';
import type { Database } from '../store/database.ts';
import { findPrivateKey } from '../store/domains.ts';

const generate = promisify(generateKeyPair);
const MOST_KEPT = 5000;

/** A new RSA-2048 pair (RFC 8301 §3.2); the public half as it is published. */
export async function newKeyPair(): Promise<{ privateKey: string; publicKey: string }> {
  const { privateKey, publicKey } = await generate('rsa', { modulusLength: 2048 });
  return {
    privateKey: privateKey.export({ format: 'pem', type: 'pkcs8' }).toString(),
    publicKey: publicKey.export({ format: 'der', type: 'spki' }).toString('base64'),
  };
}

/** A selector that tells when its key was made: `k` and the day. */
export const newSelector = (now: number): string => `k${new Date(now).toISOString().slice(0, 10).replaceAll('-', '')}`;

/** Signs for domains with their own keys, keeping parsed keys at hand. */
export class SigningKeys {
  private readonly keys = new Map<number, { selector: string; key: KeyObject }>();

  constructor(private readonly db: Database) {}

  /** The DKIM-Signature field for a message; null when the domain has no key. The signing runs off the main thread. */
  async signatureFor(
    message: Buffer,
    domain: { id: number; name: string },
    now: number,
  ): Promise<{ field: string; selector: string } | null> {
    const known = this.keyOf(domain.id);
    if (!known) return null;
    const prepared = prepareSignature(message, { domain: domain.name, selector: known.selector, at: Math.floor(now / 1000) });
    const signature = await new Promise<Buffer>((resolve, reject) =>
      sign('sha256', prepared.input, known.key, (error, value) => (error ? reject(error) : resolve(value))),
    );
    return { field: prepared.field(signature), selector: known.selector };
  }

  forget(domainId: number): void {
    this.keys.delete(domainId);
  }

  private keyOf(domainId: number): { selector: string; key: KeyObject } | null {
    const kept = this.keys.get(domainId);
    if (kept) return kept;
    const found = findPrivateKey(this.db, domainId);
    if (!found) return null;
    const known = { selector: found.selector, key: createPrivateKey(found.pem) };
    if (this.keys.size >= MOST_KEPT) this.keys.delete(this.keys.keys().next().value ?? -1);
    this.keys.set(domainId, known);
    return known;
  }
}
