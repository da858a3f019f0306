import { randomInt } from 'node:crypto';
import type { ZoneChange } from '../core/records/zone-changes.ts';
import { exchangeTcp, type Server } from './transport.ts';
import { signMessage, type TsigKey, verifyReply } from './tsig.ts';
import { dataWire, nameWire } from './wire.ts';

export type UpdateResult = { kind: 'done' } | { kind: 'refused'; reason: string } | { kind: 'failed'; reason: string };

const UPDATE = 5;
const CLASS = { IN: 1, NONE: 254 } as const;
const TYPES = { A: 1, PTR: 12, MX: 15, TXT: 16, AAAA: 28, SRV: 33, SOA: 6 } as const;

/** RFC 2136 §2.2, RFC 1035 §4.1.1, RFC 8945 §3 */
const REFUSALS: Record<number, string> = {
  1: 'it can’t read the update',
  2: 'it failed by itself; look into its log',
  3: 'it says that a name does not exist',
  4: 'it takes no updates',
  5: 'it refuses updates from here, or with this key',
  6: 'a name exists that should not',
  7: 'a record exists that should not',
  8: 'a record is missing that should exist',
  9: 'it does not take the key for this zone',
  10: 'a name is not within the zone',
};

/** Changes a zone by one RFC 2136 update, all or nothing, signed with the key. `now` in seconds since 1970. */
export async function updateZone(
  server: Server,
  zone: string,
  key: TsigKey,
  changes: readonly ZoneChange[],
  options: { ttl: number; timeoutMs: number; now: number },
): Promise<UpdateResult> {
  const { signed, mac } = signMessage(updateMessage(zone, changes, options.ttl), key, options.now);
  const reply = await exchangeTcp(server, signed, options.timeoutMs);
  if (!Buffer.isBuffer(reply)) return reply;
  if (reply.length < 12 || reply.readUInt16BE(0) !== signed.readUInt16BE(0))
    return { kind: 'failed', reason: 'the server sent a reply to another question' };
  const code = reply.readUInt8(3) & 0x0f;
  const signature = verifyReply(reply, key, mac, options.now);
  if (code !== 0) {
    const words = REFUSALS[code] ?? `it answered with the code ${code}`;
    return { kind: 'refused', reason: code === 9 && signature.kind === 'bad' ? signature.reason : words };
  }
  return signature.kind === 'good'
    ? { kind: 'done' }
    : { kind: 'failed', reason: `${signature.reason}; whether the zone was changed is not known` };
}

function updateMessage(zone: string, changes: readonly ZoneChange[], ttl: number): Buffer {
  const header = Buffer.alloc(12);
  header.writeUInt16BE(randomInt(65_536), 0);
  header.writeUInt16BE(UPDATE << 11, 2);
  header.writeUInt16BE(1, 4);
  header.writeUInt16BE(changes.length, 8);
  const question = Buffer.concat([nameWire(zone), numbers([TYPES.SOA, 2], [CLASS.IN, 2])]);
  return Buffer.concat([header, question, ...changes.map((change) => changeWire(change, ttl))]);
}

/** RFC 2136 §2.5.1 adds to a set, §2.5.4 takes one record out of it. */
function changeWire({ action, type, name, value }: ZoneChange, ttl: number): Buffer {
  const data = dataWire(type, recordData(type, value));
  return Buffer.concat([
    nameWire(name),
    numbers([TYPES[type], 2], [action === 'add' ? CLASS.IN : CLASS.NONE, 2], [action === 'add' ? ttl : 0, 4]),
    data,
  ]);
}

function recordData(type: ZoneChange['type'], value: string): unknown {
  const words = value.split(' ');
  if (type === 'MX') return { preference: Number(words[0]), exchange: words[1] };
  if (type === 'SRV') return { priority: Number(words[0]), weight: Number(words[1]), port: Number(words[2]), target: words[3] };
  if (type === 'TXT') return (value.match(/[\s\S]{1,255}/g) ?? ['']).map((piece) => Buffer.from(piece, 'latin1'));
  return value;
}

/** Numbers of so many octets each. */
function numbers(...values: [value: number, octets: number][]): Buffer {
  return Buffer.concat(
    values.map(([value, octets]) => {
      const bytes = Buffer.alloc(octets);
      bytes.writeUIntBE(value, 0, octets);
      return bytes;
    }),
  );
}
