import packet, { type DecodedPacket, type Packet, type Question, type Answer as WireAnswer } from 'dns-packet';
import { bareName } from '../core/address/domain.ts';
import { valueText } from '../core/records/answers.ts';
import type { SheetRecord } from '../core/records/sheet.ts';
import { valueIn } from '../dns/reply.ts';
import { isGenuine, readSignature, signMessage, type TsigKey } from '../dns/tsig.ts';
import { type DnsPort, openDnsPort, type Query } from './dns-port.ts';

/** A record as the stand-in publishes it; MX values are written `10 host`. */
export interface ZoneRecord {
  name: string;
  type: 'A' | 'AAAA' | 'MX' | 'TXT' | 'SRV' | 'SPF' | 'PTR' | 'CNAME' | 'NS' | 'CAA';
  value: string;
  ttl?: number;
}

export const TTL = 300;
/** Types that updates are about, with their numbers on the wire. */
const UPDATED = { A: 1, PTR: 12, MX: 15, TXT: 16, AAAA: 28, SRV: 33 } as const;
/** Every zone names this server as its own; a dial map leads its address to the port. */
export const NAME_SERVER = { name: 'ns.zonekeeper.example', address: '203.0.113.53' };

/** An authoritative name server for invented zones, over UDP and TCP, with faults on demand. */
export class StandInDns {
  private readonly zones = new Set<string>();
  private readonly records = new Map<string, ZoneRecord[]>();
  private readonly delegated = new Map<string, string>();
  private opened: DnsPort | null = null;
  /** Of all its zones; an update makes a new one. */
  serial = 1;
  /** How long absence may be kept by caches, in seconds (RFC 2308 §5). */
  negativeTtl = 60;
  /** Names below which nothing is answered at all. */
  readonly silent = new Set<string>();
  /** The key that updates must be signed with; null takes none. */
  updateKey: TsigKey | null = null;
  /** How often each `TYPE name` was asked. */
  readonly asked = new Map<string, number>();

  addZone(apex: string, records: readonly ZoneRecord[] = []): void {
    this.zones.add(bareName(apex));
    this.publish({ name: apex, type: 'NS', value: NAME_SERVER.name });
    if (NAME_SERVER.name.endsWith(`.${bareName(apex)}`)) this.publish({ name: NAME_SERVER.name, type: 'A', value: NAME_SERVER.address });
    for (const record of records) this.publish(record);
  }

  /** Names below `apex` are another server's: whoever asks for them is sent there (RFC 1034 §4.3.2). */
  delegate(apex: string, server: string): void {
    this.delegated.set(bareName(apex), server);
  }

  publish(record: ZoneRecord): void {
    const name = bareName(record.name);
    this.records.set(name, [...(this.records.get(name) ?? []), record]);
  }

  /** Takes away the records of a name, of one type or all; with `part`, only those whose value holds it. */
  withdraw(name: string, type?: ZoneRecord['type'], part = ''): void {
    const left = (this.records.get(bareName(name)) ?? []).filter(
      (one) => (type !== undefined && one.type !== type) || !one.value.includes(part),
    );
    if (left.length > 0) this.records.set(bareName(name), left);
    else this.records.delete(bareName(name));
  }

  /** Publishes records of a sheet in place of what stands there: all of the type for MX, the like of it for TXT. */
  typeIn(...records: SheetRecord[]): void {
    for (const { name, type, value } of records) this.withdraw(name, type, type === 'TXT' ? value.slice(0, 5) : '');
    for (const { name, type, value } of records) this.publish({ name, type, value });
  }

  /** Answers on a loopback port, UDP and TCP alike; resolves with the port. */
  async listen(port = 0): Promise<number> {
    this.opened = await openDnsPort(async (query, most) => this.answer(query, most), port);
    return this.opened.port;
  }

  close(): void {
    this.opened?.close();
  }

  /** The reply to a query, in at most so many octets; null for silence. */
  answer({ octets, message: query, question }: Query, most: number): Buffer | null {
    // RFC 2136 §2.2: the opcode of an update is 5.
    if (((octets[2] ?? 0) >> 3) % 16 === 5) return this.update(octets);
    const name = bareName(question.name);
    const key = `${question.type} ${name}`;
    this.asked.set(key, (this.asked.get(key) ?? 0) + 1);
    if ([...this.silent].some((one) => name === one || name.endsWith(`.${one}`))) return null;
    const whole = packet.encode(this.reply(query, question, name));
    // RFC 2181 §9: what does not fit is left out and marked; the asker comes again by TCP.
    return whole.length <= most
      ? whole
      : packet.encode({
          type: 'response',
          id: query.id ?? 0,
          flags: packet.AUTHORITATIVE_ANSWER | packet.TRUNCATED_RESPONSE,
          questions: [question],
        });
  }

  /** Takes an update that is signed with the key: records are added, or taken out one by one (RFC 2136 §2.5). */
  private update(bytes: Buffer): Buffer {
    const refused = (code: number): Buffer => {
      const header = Buffer.alloc(12);
      bytes.copy(header, 0, 0, 3);
      header[2] = (header[2] ?? 0) | 0x80;
      header[3] = code;
      return header;
    };
    const [REFUSED, YXRRSET, NXRRSET, NOTAUTH] = [5, 7, 8, 9];
    const key = this.updateKey;
    if (!key) return refused(REFUSED);
    const tsig = readSignature(bytes, key);
    if (typeof tsig === 'string' || !isGenuine(tsig, key, null)) return refused(NOTAUTH);
    const { zone, conditions, changes } = readUpdate(tsig.message);
    if (!this.zones.has(zone)) return refused(NOTAUTH);
    // RFC 2136 §3.2: what is said to stand there does, and nothing beside it.
    for (const { name, type } of conditions) {
      const stands = (this.records.get(name) ?? []).filter((one) => one.type === type).map(({ value }) => value);
      const said = conditions.filter((one) => one.name === name && one.type === type && one.isThere).map(({ value }) => value);
      if (stands.length !== said.length || stands.some((value) => !said.includes(value)))
        return refused(said.length > 0 ? NXRRSET : YXRRSET);
    }
    this.serial += 1;
    for (const { name, type, value, ttl, isThere } of changes) {
      this.withdrawOne({ name, type, value });
      if (isThere) this.publish({ name, type, value, ttl });
    }
    return signMessage(refused(0), key, Math.floor(Date.now() / 1000), tsig.mac).signed;
  }

  /** What stands at a name and below it, but for the name servers. */
  recordsBelow(apex: string): ZoneRecord[] {
    const names = [...this.records.keys()].filter((name) => name === apex || name.endsWith(`.${apex}`)).sort();
    return names.flatMap((name) => this.records.get(name) ?? []).filter((record) => record.type !== 'NS');
  }

  withdrawOne({ name, type, value }: ZoneRecord): void {
    const left = (this.records.get(bareName(name)) ?? []).filter((one) => one.type !== type || one.value !== value);
    if (left.length > 0) this.records.set(bareName(name), left);
    else this.records.delete(bareName(name));
  }

  private reply(query: Packet, question: Question, name: string): Packet {
    const base: Packet = { type: 'response', id: query.id ?? 0, flags: packet.AUTHORITATIVE_ANSWER, questions: [question] };
    const zone = [...this.zones]
      .filter((one) => name === one || name.endsWith(`.${one}`))
      .sort((one, other) => other.length - one.length)[0];
    const REFUSED = 5;
    if (zone === undefined) return { ...base, flags: REFUSED };
    const cut = [...this.delegated.keys()].find((one) => name === one || name.endsWith(`.${one}`));
    if (cut !== undefined) {
      const server = { type: 'NS' as const, name: cut, ttl: TTL, data: this.delegated.get(cut) ?? '' };
      // Whoever asks for the delegation itself is a resolver, which would have asked further.
      if (name === cut && question.type === 'NS') return { ...base, answers: [server] };
      return { ...base, flags: 0, authorities: [server] };
    }
    const soa: WireAnswer = {
      type: 'SOA',
      name: zone,
      ttl: TTL,
      data: {
        mname: NAME_SERVER.name,
        rname: `hostmaster.${zone}`,
        serial: this.serial,
        refresh: 3600,
        retry: 600,
        expire: 86_400,
        minimum: this.negativeTtl,
      },
    };
    if (name === zone && question.type === 'SOA') return { ...base, answers: [soa] };
    const found = (this.records.get(name) ?? []).filter((one) => one.type === (question.type as string) || one.type === 'CNAME');
    if (found.length > 0) return { ...base, answers: found.map((one) => wire(one, question.name)) };
    const NXDOMAIN = 3;
    // A name above an existing one exists too (RFC 8020).
    const exists = name === zone || [...this.records.keys()].some((one) => one === name || one.endsWith(`.${name}`));
    return { ...base, flags: (base.flags ?? 0) | (exists ? 0 : NXDOMAIN), authorities: [soa] };
  }
}

interface UpdateRecord extends Required<ZoneRecord> {
  /** Class IN: it stands there, or is to be added; class NONE otherwise. */
  isThere: boolean;
}

/** The sections of an update (RFC 2136 §2.2), whose records may have no data. */
function readUpdate(message: Buffer): { zone: string; conditions: UpdateRecord[]; changes: UpdateRecord[] } {
  const names = (packet as unknown as { name: { decode: { (bytes: Buffer, at: number): string; bytes: number } } }).name;
  let at = 12;
  const readName = (): string => {
    const name = bareName(names.decode(message, at));
    at += names.decode.bytes;
    return name;
  };
  const readRecord = (): UpdateRecord => {
    const begin = at;
    const name = readName();
    const code = message.readUInt16BE(at);
    const of = message.readUInt16BE(at + 2);
    const ttl = message.readUInt32BE(at + 4);
    const length = message.readUInt16BE(at + 8);
    at += 10 + length;
    const type = (Object.entries(UPDATED).find(([, one]) => one === code)?.[0] ?? 'TXT') as ZoneRecord['type'];
    if (length === 0) return { name, type, value: '', ttl, isThere: false };
    const alone = Buffer.concat([Buffer.from([0, 0, 0x80, 0, 0, 0, 0, 1, 0, 0, 0, 0]), message.subarray(begin, at)]);
    const [found] = (packet.decode(alone) as DecodedPacket).answers ?? [];
    return { name, type, value: found ? valueText(valueIn(found)) : '', ttl, isThere: of === 1 };
  };
  const zone = readName();
  at += 4;
  const [before, after] = [message.readUInt16BE(6), message.readUInt16BE(8)];
  const conditions = Array.from({ length: before }, readRecord);
  return { zone, conditions, changes: Array.from({ length: after }, readRecord) };
}

function wire(record: ZoneRecord, name: string): WireAnswer {
  const ttl = record.ttl ?? TTL;
  if (record.type === 'MX') {
    const [preference, exchange = ''] = record.value.split(' ');
    return { type: 'MX', name, ttl, data: { preference: Number(preference), exchange: exchange || '.' } };
  }
  if (record.type === 'CAA') {
    const [flags, tag = '', value = ''] = record.value.split(' ');
    return {
      type: 'CAA',
      name,
      ttl,
      data: { flags: Number(flags), tag, value: value.replaceAll('"', ''), issuerCritical: Number(flags) >= 128 } as never,
    };
  }
  if (record.type === 'SRV') {
    const [priority, weight, port, target = ''] = record.value.split(' ');
    return { type: 'SRV', name, ttl, data: { priority: Number(priority), weight: Number(weight), port: Number(port), target } };
  }
  // The package knows the retired type by its name only, and takes its data as they are on the wire.
  if (record.type === 'SPF')
    return { type: 'SPF', name, ttl, data: Buffer.concat([Buffer.from([record.value.length]), Buffer.from(record.value)]) } as never;
  if (record.type === 'TXT') return { type: 'TXT', name, ttl, data: record.value.match(/[\s\S]{1,255}/g) ?? [''] };
  return { type: record.type, name, ttl, data: record.value } as WireAnswer;
}
