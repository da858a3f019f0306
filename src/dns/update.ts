import { randomInt } from 'node:crypto';
import type { Answer as WireAnswer } from 'dns-packet';
import { bareName } from '../core/address/domain.ts';
import { valueText } from '../core/records/answers.ts';
import type { Stand, ZoneChange } from '../core/records/zone-changes.ts';
import { valueIn } from './reply.ts';
import { askTcp, exchangeTcp, type Server } from './transport.ts';
import { signMessage, type TsigKey, verifyReply } from './tsig.ts';
import { dataWire, nameWire } from './wire.ts';

/** `changed`: somebody else changed what it is about, and nothing was done. */
export type UpdateResult =
  | { kind: 'done' }
  | { kind: 'refused'; reason: string }
  | { kind: 'failed'; reason: string }
  | { kind: 'changed'; reason: string };

const UPDATE = 5;
const [YXRRSET, NXRRSET] = [7, 8];
const CHANGED: UpdateResult = { kind: 'changed', reason: 'somebody else changes the same records' };
/** What a message over TCP can hold, less a signature. */
const LARGEST_UPDATE = 65_000;
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
  9: 'it does not take the key for this zone',
  10: 'a name is not within the zone',
};

/** What stands at one name and type: each record as text, and its data on the wire, where a text may be parted in any way. */
interface StandingSet {
  name: string;
  type: ZoneChange['type'];
  records: { text: string; data: Buffer }[];
}

/**
 * Changes a zone by one RFC 2136 update, all or nothing, signed with the key. It is asked first what stands there: a record is taken out as it is on
 * the wire, and the server changes nothing if something else stands there by then (§2.4). With `stand`, what the changes were made for has to be
 * what stands there. `now` in seconds since 1970.
 */
export async function updateZone(
  server: Server,
  zone: string,
  key: TsigKey,
  changes: readonly ZoneChange[],
  options: { ttl: number; timeoutMs: number; now: number; stand?: Stand | null },
): Promise<UpdateResult> {
  const sets: StandingSet[] = [];
  for (const { name, type } of changes) {
    if (sets.some((one) => one.name === name && one.type === type)) continue;
    const found = await standingAt(server, name, type, options.timeoutMs);
    if (!Array.isArray(found)) return found;
    const thought = options.stand?.get(`${type} ${name}`);
    if (
      thought &&
      !isSame(
        thought,
        found.map((one) => one.text),
      )
    )
      return CHANGED;
    sets.push({ name, type, records: found });
  }
  const message = updateMessage(zone, sets, changes, options.ttl);
  if (message.length > LARGEST_UPDATE) return { kind: 'refused', reason: 'the update would be larger than any that a server takes' };
  const { signed, mac } = signMessage(message, key, options.now);
  const reply = await exchangeTcp(server, signed, options.timeoutMs);
  if (!Buffer.isBuffer(reply)) return reply;
  if (reply.length < 12 || reply.readUInt16BE(0) !== signed.readUInt16BE(0))
    return { kind: 'failed', reason: 'the server sent a reply to another question' };
  const code = reply.readUInt8(3) & 0x0f;
  const signature = verifyReply(reply, key, mac, options.now);
  if (code === YXRRSET || code === NXRRSET) return CHANGED;
  if (code !== 0) {
    const words = REFUSALS[code] ?? `it answered with the code ${code}`;
    return { kind: 'refused', reason: code === 9 && signature.kind === 'bad' ? signature.reason : words };
  }
  return signature.kind === 'good'
    ? { kind: 'done' }
    : { kind: 'failed', reason: `${signature.reason}; whether the zone was changed is not known` };
}

/** What stands at a name itself; aliases are followed nowhere. */
async function standingAt(
  server: Server,
  name: string,
  type: ZoneChange['type'],
  timeoutMs: number,
): Promise<StandingSet['records'] | { kind: 'failed'; reason: string }> {
  const query = { type: 'query' as const, id: randomInt(65_536), flags: 0, questions: [{ type: type as 'TXT', name }] };
  const reply = await askTcp(server, query, timeoutMs);
  if (reply.kind === 'failed') return reply;
  const { rcode, flag_aa: isAuthoritative, answers } = reply.message;
  if ((rcode !== 'NOERROR' && rcode !== 'NXDOMAIN') || !isAuthoritative)
    return { kind: 'failed', reason: `it does not say what stands at ${name}` };
  return (answers ?? [])
    .filter((one: WireAnswer) => one.type === type && bareName(one.name) === bareName(name))
    .map((one) => ({ text: valueText(valueIn(one)), data: dataWire(type, (one as { data: unknown }).data) }));
}

const isSame = (some: readonly string[], others: readonly string[]): boolean =>
  some.length === others.length && [...some].sort().join('\n') === [...others].sort().join('\n');

function updateMessage(zone: string, sets: readonly StandingSet[], changes: readonly ZoneChange[], ttl: number): Buffer {
  const before = sets.flatMap(conditions);
  const after = changes.flatMap((change) => changeWires(change, sets, ttl));
  const header = Buffer.alloc(12);
  header.writeUInt16BE(randomInt(65_536), 0);
  header.writeUInt16BE(UPDATE << 11, 2);
  header.writeUInt16BE(1, 4);
  header.writeUInt16BE(before.length, 6);
  header.writeUInt16BE(after.length, 8);
  const question = Buffer.concat([nameWire(zone), numbers([TYPES.SOA, 2], [CLASS.IN, 2])]);
  return Buffer.concat([header, question, ...before, ...after]);
}

/** RFC 2136 §2.4.2: exactly these records stand there; §2.4.3: none does. */
const conditions = ({ name, type, records }: StandingSet): Buffer[] =>
  records.length === 0
    ? [recordWire(name, type, CLASS.NONE, 0, Buffer.alloc(2))]
    : records.map(({ data }) => recordWire(name, type, CLASS.IN, 0, data));

/** RFC 2136 §2.5.1 adds to a set, §2.5.4 takes one record out of it: each one that reads so, however its text is parted. */
function changeWires({ action, type, name, value }: ZoneChange, sets: readonly StandingSet[], ttl: number): Buffer[] {
  if (action === 'add') return [recordWire(name, type, CLASS.IN, ttl, dataWire(type, recordData(type, value)))];
  const standing = sets.find((one) => one.name === name && one.type === type)?.records ?? [];
  return standing.filter((one) => one.text === value).map(({ data }) => recordWire(name, type, CLASS.NONE, 0, data));
}

const recordWire = (name: string, type: ZoneChange['type'], of: number, ttl: number, data: Buffer): Buffer =>
  Buffer.concat([nameWire(name), numbers([TYPES[type], 2], [of, 2], [ttl, 4]), data]);

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
