import { createHmac, timingSafeEqual } from 'node:crypto';
import type { TsigAlgorithm } from '../core/vocabulary.ts';
import { nameWire } from './wire.ts';

/** A shared key for signed DNS messages (RFC 8945). */
export interface TsigKey {
  name: string;
  algorithm: TsigAlgorithm;
  /** Base64. */
  secret: string;
}

const TSIG = 250;
const ANY = 255;
/** RFC 8945 §10 recommends five minutes. */
const FUDGE = 300;
const HEADER = 12;

const short = (value: number): Buffer => {
  const bytes = Buffer.alloc(2);
  bytes.writeUInt16BE(value);
  return bytes;
};

/** Seconds as 48 bits. */
function longTime(seconds: number): Buffer {
  const bytes = Buffer.alloc(6);
  bytes.writeUIntBE(seconds, 0, 6);
  return bytes;
}

/** The message with so many more records counted in its last section. */
const withCount = (message: Buffer, additional: number): Buffer => {
  const copy = Buffer.from(message);
  copy.writeUInt16BE(copy.readUInt16BE(10) + additional, 10);
  return copy;
};

/** RFC 8945 §4.3: what the MAC covers. */
function digest(
  key: TsigKey,
  parts: { requestMac: Buffer | null; message: Buffer; time: Buffer; fudge: number; error: number; other: Buffer },
): Buffer {
  const hmac = createHmac(key.algorithm.replace('hmac-', ''), Buffer.from(key.secret, 'base64'));
  if (parts.requestMac) hmac.update(short(parts.requestMac.length)).update(parts.requestMac);
  hmac.update(parts.message);
  hmac.update(nameWire(key.name)).update(short(ANY)).update(Buffer.alloc(4)).update(nameWire(key.algorithm));
  hmac.update(parts.time).update(short(parts.fudge)).update(short(parts.error)).update(short(parts.other.length)).update(parts.other);
  return hmac.digest();
}

/** The message with its signature; the MAC is needed to verify the reply, and a reply is signed over that of its request. `now` in seconds since 1970. */
export function signMessage(message: Buffer, key: TsigKey, now: number, requestMac: Buffer | null = null): { signed: Buffer; mac: Buffer } {
  const time = longTime(now);
  const mac = digest(key, { requestMac, message, time, fudge: FUDGE, error: 0, other: Buffer.alloc(0) });
  const data = Buffer.concat([
    nameWire(key.algorithm),
    time,
    short(FUDGE),
    short(mac.length),
    mac,
    message.subarray(0, 2),
    short(0),
    short(0),
  ]);
  const record = Buffer.concat([nameWire(key.name), short(TSIG), short(ANY), Buffer.alloc(4), short(data.length), data]);
  return { signed: Buffer.concat([withCount(message, 1), record]), mac };
}

/** RFC 8945 §3 */
const ERRORS: Record<number, string> = {
  16: 'the signature is wrong: the secret is not that of the key',
  17: 'the server does not know the key, or not with this algorithm',
  18: 'the clocks of the two machines are too far apart',
  22: 'the signature was cut short',
};

interface Tsig {
  /** The message as it was before it was signed. */
  message: Buffer;
  time: Buffer;
  fudge: number;
  mac: Buffer;
  error: number;
  other: Buffer;
}

/** Takes a message and its signature apart (RFC 8945 §4.2); a text says why that can't be done. */
export function readSignature(signed: Buffer, key: Pick<TsigKey, 'name' | 'algorithm'>): Tsig | string {
  const name = nameWire(key.name);
  if (signed.length < HEADER || signed.readUInt16BE(10) === 0) return 'is not signed';
  // The record is the last one and its names are not compressed.
  const start = signed.lastIndexOf(Buffer.concat([name, short(TSIG), short(ANY)]));
  if (start < HEADER) return 'is not signed with our key';
  try {
    let at = start + name.length + 10;
    const algorithm = nameWire(key.algorithm);
    if (!signed.subarray(at, at + algorithm.length).equals(algorithm)) return 'is signed with another algorithm';
    at += algorithm.length;
    const time = signed.subarray(at, at + 6);
    const fudge = signed.readUInt16BE(at + 6);
    const size = signed.readUInt16BE(at + 8);
    const mac = signed.subarray(at + 10, at + 10 + size);
    at += 10 + size;
    const error = signed.readUInt16BE(at + 2);
    const other = signed.subarray(at + 6, at + 6 + signed.readUInt16BE(at + 4));
    const message = withCount(signed.subarray(0, start), -1);
    // §5.3.1: the digest is over the id that the request had.
    signed.copy(message, 0, at, at + 2);
    return { message, time, fudge, mac, error, other };
  } catch (fault) {
    if (fault instanceof RangeError) return 'has a signature that can’t be read';
    throw fault;
  }
}

export function isGenuine({ mac, ...parts }: Tsig, key: TsigKey, requestMac: Buffer | null): boolean {
  const expected = digest(key, { requestMac, ...parts });
  return mac.length === expected.length && timingSafeEqual(mac, expected);
}

/** Whether a reply is really from who has the key (RFC 8945 §5.3). */
export function verifyReply(
  reply: Buffer,
  key: TsigKey,
  requestMac: Buffer,
  now: number,
): { kind: 'good' } | { kind: 'bad'; reason: string } {
  const bad = (reason: string) => ({ kind: 'bad', reason }) as const;
  const tsig = readSignature(reply, key);
  if (typeof tsig === 'string') return bad(`the reply ${tsig}`);
  const refusal = ERRORS[tsig.error] ?? `the server refuses the signature (error ${tsig.error})`;
  if (tsig.error !== 0 && tsig.mac.length === 0) return bad(refusal);
  if (!isGenuine(tsig, key, requestMac)) return bad('the signature of the reply is wrong');
  if (tsig.error !== 0) return bad(refusal);
  return Math.abs(tsig.time.readUIntBE(0, 6) - now) <= tsig.fudge ? { kind: 'good' } : bad('the reply is too old');
}
