import packet, { type Packet } from 'dns-packet';
import { absenceTtl } from '../dns/reply.ts';
import { askTcp, type DnsMessage, type Server } from '../dns/transport.ts';
import { type DnsPort, openDnsPort, type Query } from './dns-port.ts';

interface Kept {
  message: DnsMessage;
  at: number;
  seconds: number;
}

/** A resolver between the service and the zones, which keeps answers as long as they say, right or old. */
export class StandInResolver {
  private readonly kept = new Map<string, Kept>();
  private opened: DnsPort | null = null;

  constructor(
    private readonly authority: Server,
    private readonly now: () => number,
  ) {}

  async listen(port = 0): Promise<number> {
    this.opened = await openDnsPort((query, most) => this.answer(query, most), port);
    return this.opened.port;
  }

  close(): void {
    this.opened?.close();
  }

  /** Forgets everything, as after a restart. */
  forget(): void {
    this.kept.clear();
  }

  private async answer({ message: query, question }: Query, most: number): Promise<Buffer | null> {
    const message = await this.find(`${question.type} ${question.name.toLowerCase()}`, {
      type: 'query',
      id: query.id ?? 0,
      questions: [question],
    });
    if (!message) return null;
    const reply: Packet = {
      type: 'response',
      id: query.id ?? 0,
      flags:
        packet.RECURSION_DESIRED | packet.RECURSION_AVAILABLE | (message.rcode === 'NXDOMAIN' ? 3 : message.rcode === 'NOERROR' ? 0 : 2),
      questions: [question],
      answers: message.answers ?? [],
      authorities: message.authorities ?? [],
    };
    const whole = packet.encode(reply);
    return whole.length <= most
      ? whole
      : packet.encode({ ...reply, flags: (reply.flags ?? 0) | packet.TRUNCATED_RESPONSE, answers: [], authorities: [] });
  }

  private async find(key: string, query: Packet): Promise<DnsMessage | null> {
    const kept = this.kept.get(key);
    const now = this.now();
    if (kept && now < kept.at + kept.seconds * 1000) return aged(kept.message, Math.floor((now - kept.at) / 1000));
    const exchange = await askTcp(this.authority, query, 1000);
    if (exchange.kind === 'failed') return null;
    const { message } = exchange;
    const ttls = (message.answers ?? []).map((one) => ('ttl' in one ? (one.ttl ?? 0) : 0));
    const seconds = ttls.length > 0 ? Math.min(...ttls) : absenceTtl(message);
    if (seconds > 0 && (message.rcode === 'NOERROR' || message.rcode === 'NXDOMAIN')) this.kept.set(key, { message, at: now, seconds });
    return message;
  }
}

/** The same message some seconds later (RFC 2181 §8, RFC 2308 §5). */
function aged(message: DnsMessage, seconds: number): DnsMessage {
  const older = <T extends object>(records: T[] | undefined): T[] =>
    (records ?? []).map((one) => ('ttl' in one ? { ...one, ttl: Math.max(0, Number(one.ttl) - seconds) } : one));
  return { ...message, answers: older(message.answers), authorities: older(message.authorities) };
}
