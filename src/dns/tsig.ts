import { createHmac, timingSafeEqual } from 'node:crypto';
import { nameWire } from './wire.ts';

/** A shared key for signed DNS messages (RFC 8945). */
export interface TsigKey {
  name: string;
  algorithm: TsigAlgorithm;
  /** Base64. */
  secret: string;
}

/** RFC 8945 §6; those of MD5 and SHA-1 are not offered. */
export const TSIG_ALGORITHMS = ['hmac-sha256', 'hmac-sha384', 'hmac-sha512'] as const;
export type TsigAlgorithm = (typeof TSIG_ALGORITHMS)[number];

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

/** The message with its signature; the MAC is needed to verify the reply. `now` in seconds since 1970. */
export function signMessage(message: Buffer, key: TsigKey, now: number): { signed: Buffer; mac: Buffer } {
  const time = longTime(now);
  const mac = digest(key, { requestMac: null, message, time, fudge: FUDGE, error: 0, other: Buffer.alloc(0) });
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

/** Whether a reply is really from who has the key (RFC 8945 §5.3). */
export function verifyReply(
  reply: Buffer,
  key: TsigKey,
  requestMac: Buffer,
  now: number,
): { kind: 'good' } | { kind: 'bad'; reason: string } {
  const bad = (reason: string) => ({ kind: 'bad', reason }) as const;
  const name = nameWire(key.name);
  if (reply.length < HEADER || reply.readUInt16BE(10) === 0) return bad('the reply is not signed');
  // The record is the last one and its names are not compressed (§4.2).
  const start = reply.lastIndexOf(Buffer.concat([name, short(TSIG), short(ANY)]));
  if (start < HEADER) return bad('the reply is not signed with our key');
  try {
    let at = start + name.length + 10;
    const algorithm = nameWire(key.algorithm);
    if (!reply.subarray(at, at + algorithm.length).equals(algorithm)) return bad('the reply is signed with another algorithm');
    at += algorithm.length;
    const time = reply.subarray(at, at + 6);
    const fudge = reply.readUInt16BE(at + 6);
    const size = reply.readUInt16BE(at + 8);
    const mac = reply.subarray(at + 10, at + 10 + size);
    at += 10 + size;
    const error = reply.readUInt16BE(at + 2);
    const other = reply.subarray(at + 6, at + 6 + reply.readUInt16BE(at + 4));
    if (error !== 0 && size === 0) return bad(ERRORS[error] ?? `the server refuses the signature (error ${error})`);
    const message = withCount(reply.subarray(0, start), -1);
    // §5.3.1: the digest is over the id that the request had.
    reply.copy(message, 0, at, at + 2);
    const expected = digest(key, { requestMac, message, time, fudge, error, other });
    if (mac.length !== expected.length || !timingSafeEqual(mac, expected)) return bad('the signature of the reply is wrong');
    if (error !== 0) return bad(ERRORS[error] ?? `the server refuses the signature (error ${error})`);
    return Math.abs(time.readUIntBE(0, 6) - now) <= fudge ? { kind: 'good' } : bad('the reply is too old');
  } catch (fault) {
    if (fault instanceof RangeError) return bad('the signature of the reply can’t be read');
    throw fault;
  }
}
