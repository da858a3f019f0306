import { createHash, createPrivateKey, createPublicKey, generateKeyPair, type KeyObject, sign } from 'node:crypto';
import { promisify } from 'node:util';
import { BoundedMap } from '../../core/bounded-map.ts';
import { prepareSignatures } from '../../core/dkim/sign.ts';
import type { KeyType } from '../../core/vocabulary.ts';
import type { Database } from '../../store/database.ts';
import type { KeyFile } from '../../store/key-file.ts';
import { findPartedKeys, findPrivateKeys } from '../../store/keys.ts';
import type { RowChange } from '../../store/row-changes.ts';

const generate = promisify(generateKeyPair);
const MOST_KEPT = 5000;
/** Signatures are kept so long for the other destinations of a message. */
const SIGNED_ANEW_AFTER_MS = 10 * 60_000;
const MOST_SIGNATURES = 1000;

export interface KeyPair {
  type: KeyType;
  /** PEM, PKCS #8. */
  privateKey: string;
  /** As it is published: base64 of the SubjectPublicKeyInfo for RSA, of the bare 32 octets for Ed25519 (RFC 8463 §4). */
  publicKey: string;
}

/** A new pair: RSA of 2048 bits (RFC 8301 §3.2), or Ed25519. */
export async function newKeyPair(type: KeyType): Promise<KeyPair> {
  const { privateKey } = type === 'rsa' ? await generate('rsa', { modulusLength: 2048 }) : await generate('ed25519');
  return pairOf(privateKey, type);
}

/** Reads a private key in PEM, of whatever form; null when it is none that can sign for DKIM. */
export function readPrivateKey(pem: string): KeyPair | null {
  try {
    const key = createPrivateKey(pem);
    const type = key.asymmetricKeyType;
    return type === 'rsa' || type === 'ed25519' ? pairOf(key, type) : null;
  } catch {
    return null;
  }
}

function pairOf(key: KeyObject, type: KeyType): KeyPair {
  const spki = createPublicKey(key).export({ format: 'der', type: 'spki' });
  return {
    type,
    privateKey: key.export({ format: 'pem', type: 'pkcs8' }).toString(),
    publicKey: (type === 'rsa' ? spki : spki.subarray(-32)).toString('base64'),
  };
}

/** A selector that tells when its key was made: `k` and the day, `e` and the day for Ed25519. */
export const newSelector = (type: KeyType, now: number): string =>
  `${type === 'rsa' ? 'k' : 'e'}${new Date(now).toISOString().slice(0, 10).replaceAll('-', '')}`;

interface ReadyKey {
  selector: string;
  type: KeyType;
  state: string;
  key: KeyObject;
  /** Made once: the same for as long as the key is. */
  proof: { input: Buffer; signature: Buffer } | null;
}

const signWith = ({ type, key }: ReadyKey, input: Buffer): Promise<Buffer> =>
  new Promise((resolve, reject) =>
    sign(type === 'rsa' ? 'sha256' : null, input, key, (error, value) => (error ? reject(error) : resolve(value))),
  );

interface SigningDomain {
  id: number | null;
  name: string;
}

/** The DKIM-Signature fields of a message, each with its final CRLF, and the selectors of the keys that made them. */
export interface Signatures {
  fields: string;
  selectors: string[];
}

/** Signs for domains with their own keys, keeping parsed keys at hand. */
export class SigningKeys {
  private readonly keys = new BoundedMap<number, ReadyKey[]>(MOST_KEPT);
  private readonly made = new BoundedMap<string, { at: number; signatures: Promise<Signatures | null> }>(MOST_SIGNATURES);

  constructor(
    private readonly db: Database,
    private readonly keyFile: KeyFile,
  ) {}

  /**
   * The signatures of a text, one an active key; null when the domain has none. Made once for all destinations of the text, off the main thread.
   * The id is null for a domain that is gone: it signs what waits with the keys that it left.
   */
  signaturesOf(
    text: { name: string; read: () => Buffer | AsyncIterable<Buffer> },
    domain: SigningDomain,
    now: number,
  ): Promise<Signatures | null> {
    const name = `${text.name} ${domain.name}`;
    const known = this.made.get(name);
    if (known && now >= known.at && now - known.at < SIGNED_ANEW_AFTER_MS) return known.signatures;
    const signatures = this.sign(text.read, domain, now);
    this.made.set(name, { at: now, signatures });
    signatures.catch(() => this.made.delete(name));
    return signatures;
  }

  private async sign(read: () => Buffer | AsyncIterable<Buffer>, domain: SigningDomain, now: number): Promise<Signatures | null> {
    const active = domain.id === null ? this.partedKeysOf(domain.name) : this.keysOf(domain.id).filter((one) => one.state === 'active');
    if (active.length === 0) return null;
    const prepared = await prepareSignatures(read(), { domain: domain.name, keys: active, at: Math.floor(now / 1000) });
    const fields = await Promise.all(prepared.map(async (one, at) => one.field(await signWith(active[at] as ReadyKey, one.input))));
    return { fields: fields.join(''), selectors: active.map((one) => one.selector) };
  }

  /** A signature by each key that signs or is prepared to, over a text of its own, for a check of the published half. */
  async proofs(domainId: number): Promise<Map<string, { input: Buffer; signature: Buffer }>> {
    const proofs = new Map<string, { input: Buffer; signature: Buffer }>();
    for (const one of this.keysOf(domainId)) {
      if (one.proof === null) {
        const input = Buffer.from(`a check of the key ${one.selector}`);
        const signed = one.type === 'rsa' ? input : createHash('sha256').update(input).digest();
        one.proof = { input, signature: await signWith(one, signed) };
      }
      proofs.set(one.selector, one.proof);
    }
    return proofs;
  }

  follow(changes: readonly RowChange[]): void {
    for (const { kind, id } of changes) {
      if (kind !== 'keys') continue;
      this.keys.delete(id);
      this.made.clear();
    }
  }

  private partedKeysOf(domain: string): ReadyKey[] {
    return findPartedKeys(this.db, domain).map(({ selector, type, pem }) => this.ready({ selector, type, state: 'active', pem }));
  }

  private ready({ selector, type, state, pem }: Omit<ReadyKey, 'key' | 'proof'> & { pem: string }): ReadyKey {
    return { selector, type, state, key: createPrivateKey(this.keyFile.open(pem)), proof: null };
  }

  private keysOf(domainId: number): ReadyKey[] {
    const kept = this.keys.get(domainId);
    if (kept) return kept;
    const ready = findPrivateKeys(this.db, domainId).map((one) => this.ready(one));
    this.keys.set(domainId, ready);
    return ready;
  }
}
