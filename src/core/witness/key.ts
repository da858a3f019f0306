import { createPrivateKey, createPublicKey, type KeyObject } from 'node:crypto';

/** What stands before the 32 octets of an Ed25519 key (RFC 8410 §7, §4). */
const PRIVATE = Buffer.from('302e020100300506032b657004220420', 'hex');
const PUBLIC = Buffer.from('302a300506032b6570032100', 'hex');
const OCTETS = 32;

export const privateKeyOf = (seed: Buffer): KeyObject =>
  createPrivateKey({ key: Buffer.concat([PRIVATE, seed.subarray(0, OCTETS)]), format: 'der', type: 'pkcs8' });

/** The public part of a key as base64. */
export const publicText = (key: KeyObject): string =>
  createPublicKey(key).export({ format: 'der', type: 'spki' }).subarray(PUBLIC.length).toString('base64');

/** Null for what is no key. */
export function publicKeyOf(text: string): KeyObject | null {
  const octets = Buffer.from(text, 'base64');
  if (octets.length !== OCTETS || octets.toString('base64') !== text) return null;
  return createPublicKey({ key: Buffer.concat([PUBLIC, octets]), format: 'der', type: 'spki' });
}
