import { createHash, createPublicKey, generateKeyPairSync, sign, verify } from 'node:crypto';
import { keyRecordText } from '../../src/core/dkim/key-record.ts';
import { prepareSignatures } from '../../src/core/dkim/sign.ts';
import { verifyDkim } from '../../src/core/dkim/verify.ts';
import type { Lookup } from '../../src/core/records/answers.ts';
import { messageText } from './service.ts';

const MESSAGES = 3000;
const { privateKey, publicKey } = generateKeyPairSync('rsa', { modulusLength: 2048 });
const der = publicKey.export({ format: 'der', type: 'spki' });
const plain = Buffer.from(messageText('bench'));
const [prepared] = await prepareSignatures(plain, { domain: 'shop.example', keys: [{ selector: 'k1', type: 'rsa' }], at: 1_790_000_000 });
if (!prepared) throw new Error('nothing prepared');
const signature = sign('sha256', prepared.input, privateKey);
const message = Buffer.concat([Buffer.from(prepared.field(signature), 'latin1'), plain]);
const record = keyRecordText(der.toString('base64'));
// The answer is there at once, so that only the verifying is measured.
const lookup: Lookup = async () => ({ kind: 'found', values: [record], ttl: 60, alias: null }) as never;

/** Messages of 4 KiB with one RSA-2048 signature, verified a second: parsed, canonicalised, hashed, key record read, signature checked. */
export async function messagesVerified(): Promise<number> {
  const begun = performance.now();
  for (let at = 0; at < MESSAGES; at += 1) {
    const [outcome] = await verifyDkim(message, lookup, 1_790_000_000_000);
    if (outcome?.result !== 'pass') throw new Error(outcome?.reason);
  }
  return MESSAGES / ((performance.now() - begun) / 1000);
}

/** The same signature checked and the same octets hashed, and nothing else. */
export async function rawVerifications(): Promise<number> {
  const key = createPublicKey({ key: der, format: 'der', type: 'spki' });
  const input = prepared?.input ?? Buffer.alloc(0);
  const begun = performance.now();
  for (let at = 0; at < MESSAGES; at += 1) {
    createHash('sha256').update(message).digest();
    if (!verify('sha256', input, key, signature)) throw new Error('raw verification failed');
  }
  return MESSAGES / ((performance.now() - begun) / 1000);
}
