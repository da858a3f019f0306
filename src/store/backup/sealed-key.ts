import { createCipheriv, createDecipheriv, randomBytes, scryptSync } from 'node:crypto';
import type { SealedKey } from '../../core/backup/manifest.ts';

/** About a second of one core, and 128 MiB: a passphrase is guessed slowly. */
const COST = { N: 2 ** 17, r: 8, p: 1, maxmem: 256 * 1024 * 1024 };
const KEY_OCTETS = 32;
const TAG_OCTETS = 16;

/** Seals the key file with a passphrase (scrypt, RFC 7914; AES-256-GCM). */
export function sealKey(key: string, passphrase: string): SealedKey {
  const [salt, nonce] = [randomBytes(16), randomBytes(12)];
  const cipher = createCipheriv('aes-256-gcm', scryptSync(passphrase, salt, KEY_OCTETS, COST), nonce);
  const sealed = Buffer.concat([cipher.update(key, 'utf8'), cipher.final(), cipher.getAuthTag()]);
  return { salt: salt.toString('base64'), nonce: nonce.toString('base64'), sealed: sealed.toString('base64') };
}

/** Null for a wrong passphrase. */
export function openSealedKey({ salt, nonce, sealed }: SealedKey, passphrase: string): string | null {
  const octets = Buffer.from(sealed, 'base64');
  try {
    const key = scryptSync(passphrase, Buffer.from(salt, 'base64'), KEY_OCTETS, COST);
    const decipher = createDecipheriv('aes-256-gcm', key, Buffer.from(nonce, 'base64'));
    decipher.setAuthTag(octets.subarray(-TAG_OCTETS));
    return Buffer.concat([decipher.update(octets.subarray(0, -TAG_OCTETS)), decipher.final()]).toString('utf8');
  } catch {
    return null;
  }
}
