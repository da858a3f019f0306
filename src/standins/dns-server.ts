import { createSocket, type Socket as UdpSocket } from 'node:dgram';
import { createServer, type Server } from 'node:net';
import packet, { type Packet, type Question, type Answer as WireAnswer } from 'dns-packet';
import { bareName } from '../core/address/domain.ts';
import type { SheetRecord } from '../core/records/sheet.ts';

/** A record as the stand-in publishes it; MX values are written `10 host`. */
export interface ZoneRecord {
  name: string;
  type: 'A' | 'AAAA' | 'MX' | 'TXT' | 'PTR' | 'CNAME' | 'NS';
  value: string;
  ttl?: number;
}

const TTL = 300;
const LARGEST_DATAGRAM = 1232;

/** An authoritative name server for invented zones, over UDP and TCP, with faults on demand. */
export class StandInDns {
  private readonly zones = new Set<string>();
  private readonly records = new Map<string, ZoneRecord[]>();
  private udp: UdpSocket | null = null;
  private tcp: Server | null = null;
  /** Names below which nothing is answered at all. */
  readonly silent = new Set<string>();
  /** How often each `TYPE name` was asked. */
  readonly asked = new Map<string, number>();

  addZone(apex: string, records: readonly ZoneRecord[] = []): void {
    this.zones.add(bareName(apex));
    for (const record of records) this.publish(record);
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

  /** Publishes a record of a sheet in place of what stands there: all of the type for MX, the like of it for TXT. */
  typeIn(record: SheetRecord): void {
    const part = record.type === 'TXT' ? record.value.slice(0, 5) : '';
    this.withdraw(record.name, record.type, part);
    this.publish({ name: record.name, type: record.type, value: record.value });
  }

  /** Answers on a loopback port, UDP and TCP alike; resolves with the port. */
  async listen(port = 0): Promise<number> {
    const tcp = createServer((socket) => {
      let received = Buffer.alloc(0);
      socket.on('error', () => socket.destroy());
      socket.on('data', (bytes) => {
        received = Buffer.concat([received, bytes]);
        while (received.length >= 2 && received.length >= received.readUInt16BE(0) + 2) {
          const query = received.subarray(2, received.readUInt16BE(0) + 2);
          received = received.subarray(query.length + 2);
          const answer = this.answer(query, 65_535);
          if (answer) socket.write(Buffer.concat([lengthOf(answer), answer]));
        }
      });
    });
    this.tcp = tcp;
    const bound = await new Promise<number>((resolve, reject) => {
      tcp.once('error', reject);
      tcp.listen(port, '127.0.0.1', () => resolve((tcp.address() as { port: number }).port));
    });
    const udp = createSocket('udp4');
    this.udp = udp;
    udp.on('message', (bytes, from) => {
      const answer = this.answer(bytes, LARGEST_DATAGRAM);
      if (answer) udp.send(answer, from.port, from.address);
    });
    await new Promise<void>((resolve, reject) => {
      udp.once('error', reject);
      udp.bind(bound, '127.0.0.1', resolve);
    });
    return bound;
  }

  close(): void {
    this.udp?.close();
    this.tcp?.close();
  }

  private answer(bytes: Buffer, most: number): Buffer | null {
    let query: Packet;
    try {
      query = packet.decode(bytes);
    } catch {
      return null;
    }
    const question = query.questions?.[0];
    if (!question) return null;
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

  private reply(query: Packet, question: Question, name: string): Packet {
    const base: Packet = { type: 'response', id: query.id ?? 0, flags: packet.AUTHORITATIVE_ANSWER, questions: [question] };
    const zone = [...this.zones]
      .filter((one) => name === one || name.endsWith(`.${one}`))
      .sort((one, other) => other.length - one.length)[0];
    const REFUSED = 5;
    if (zone === undefined) return { ...base, flags: REFUSED };
    const found = (this.records.get(name) ?? []).filter((one) => one.type === question.type || one.type === 'CNAME');
    if (found.length > 0) return { ...base, answers: found.map((one) => wire(one, question.name)) };
    const soa: WireAnswer = {
      type: 'SOA',
      name: zone,
      ttl: TTL,
      data: { mname: `ns.${zone}`, rname: `hostmaster.${zone}`, serial: 1, refresh: 3600, retry: 600, expire: 86_400, minimum: 60 },
    };
    const NXDOMAIN = 3;
    // A name above an existing one exists too (RFC 8020).
    const exists = name === zone || [...this.records.keys()].some((one) => one === name || one.endsWith(`.${name}`));
    return { ...base, flags: (base.flags ?? 0) | (exists ? 0 : NXDOMAIN), authorities: [soa] };
  }
}

function wire(record: ZoneRecord, name: string): WireAnswer {
  const ttl = record.ttl ?? TTL;
  if (record.type === 'MX') {
    const [preference, exchange = ''] = record.value.split(' ');
    return { type: 'MX', name, ttl, data: { preference: Number(preference), exchange: exchange || '.' } };
  }
  if (record.type === 'TXT') return { type: 'TXT', name, ttl, data: record.value.match(/[\s\S]{1,255}/g) ?? [''] };
  return { type: record.type, name, ttl, data: record.value } as WireAnswer;
}

function lengthOf(bytes: Buffer): Buffer {
  const length = Buffer.alloc(2);
  length.writeUInt16BE(bytes.length);
  return length;
}
