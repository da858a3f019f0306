import { createPublicKey, type KeyObject } from 'node:crypto';
import { BoundedMap } from '../bounded-map.ts';
import type { KeyType } from '../vocabulary.ts';
import { parseTags, withoutSpace } from './tags.ts';

export type KeyRecord =
  | { kind: 'key'; key: KeyObject; type: KeyType; bits: number; publicKey: string; testing: boolean; strict: boolean }
  | { kind: 'revoked' }
  | { kind: 'invalid'; reason: string };

/** Keys that were read lately: many messages come from few domains, and reading a key costs more than verifying with it. */
const MOST_KEPT = 2000;
const lately = new BoundedMap<string, KeyRecord>(MOST_KEPT);
const LONGEST_KEPT = 2000;

/** Reads a published DKIM key (RFC 6376 §3.6.1, RFC 8463 §3). */
export function parseKeyRecord(text: string): KeyRecord {
  const known = lately.get(text);
  if (known) return known;
  const record = readKeyRecord(text);
  if (text.length > LONGEST_KEPT) return record;
  lately.set(text, record);
  return record;
}

function readKeyRecord(text: string): KeyRecord {
  const parsed = parseTags(text);
  if (parsed.kind === 'invalid') return parsed;
  const { tags } = parsed;
  const invalid = (reason: string): KeyRecord => ({ kind: 'invalid', reason });
  // §3.6.1: where v= is given, it stands first.
  if (tags.has('v') && [...tags.keys()][0] !== 'v') return invalid('its v= is not first');
  if ((tags.get('v') ?? 'DKIM1') !== 'DKIM1') return invalid('its version is not DKIM1');
  const type = tags.get('k') ?? 'rsa';
  if (type !== 'rsa' && type !== 'ed25519') return invalid(`its key type ${type} is unknown`);
  const publicKey = tags.get('p');
  if (publicKey === undefined) return invalid('it has no p= tag');
  const base64 = withoutSpace(publicKey);
  if (base64 === '') return { kind: 'revoked' };
  if (!/^[A-Za-z0-9+/]+={0,2}$/.test(base64)) return invalid(base64.includes('"') ? 'its p= contains quotes' : 'its p= is not base64');
  const services = tags.get('s')?.split(':').map(withoutSpace);
  if (services && !services.includes('*') && !services.includes('email')) return invalid('it is not for mail (s=)');
  const hashes = tags.get('h')?.split(':').map(withoutSpace);
  if (hashes && !hashes.includes('sha256')) return invalid('it does not allow SHA-256 (h=)');
  const flags = (tags.get('t') ?? '').split(':').map(withoutSpace);
  const der = Buffer.from(base64, 'base64');
  // RFC 8463 §4
  if (type === 'ed25519' && der.length !== 32) return invalid(`its p= has ${der.length} octets; an Ed25519 key has 32`);
  try {
    const key =
      type === 'rsa'
        ? rsaKey(der)
        : // RFC 8463 publishes the bare 32 octets; the prefix makes them a SubjectPublicKeyInfo (RFC 8410 §4).
          createPublicKey({ key: Buffer.concat([Buffer.from('302a300506032b6570032100', 'hex'), der]), format: 'der', type: 'spki' });
    if (key.asymmetricKeyType !== type) return invalid(`its p= holds no ${type} key`);
    const bits = type === 'rsa' ? (key.asymmetricKeyDetails?.modulusLength ?? 0) : 256;
    return { kind: 'key', key, type, bits, publicKey: base64, testing: flags.includes('y'), strict: flags.includes('s') };
  } catch {
    return invalid('its p= is truncated or broken: it is not a readable public key');
  }
}

/** RFC 6376 §3.6.1 speaks of an RSAPublicKey, its appendix C publishes a SubjectPublicKeyInfo: both are in use. */
function rsaKey(der: Buffer): KeyObject {
  try {
    return createPublicKey({ key: der, format: 'der', type: 'spki' });
  } catch {
    return createPublicKey({ key: der, format: 'der', type: 'pkcs1' });
  }
}

/** The text that publishes a public key. */
export const keyRecordText = (publicKey: string, type: KeyType = 'rsa'): string => `v=DKIM1; k=${type}; p=${publicKey}`;
