import { type DnsName, dnsName } from '../core/address/domain.ts';
import { BoundedMap } from '../core/bounded-map.ts';
import type { Gate } from '../core/gate.ts';
import type { Answer, Lookup, RecordType } from '../core/records/answers.ts';
import { type Asking, askInTurn, type Failure, type ServerReply } from './asking.ts';
import { absenceTtl, answerIn, LONGEST_CHAIN } from './reply.ts';
import { ServerHealth, type ServerState } from './server-health.ts';
import type { DnsMessage, Server } from './transport.ts';

export interface ResolverSettings {
  servers: readonly Server[];
  timeoutMs: number;
  /** Rounds over all servers. */
  tries: number;
  now: () => number;
  /** Bounds the questions that are under way at once. */
  gate?: Gate;
  /** Shared by all who ask the same servers; by default one of its own. */
  health?: ServerHealth;
}
const MOST_CACHED = 50_000;
/** RFC 2308 §5 advises an upper bound for negative answers; RFC 8767 §4 one for all. */
const LONGEST_NEGATIVE = 3 * 3600;
const LONGEST_POSITIVE = 24 * 3600;

type Cached = { answer: Answer<RecordType>; storedAt: number; until: number };

/** A stub resolver with a cache that keeps each answer for its TTL and no longer; failures are not kept. */
export class Resolver {
  private readonly cache = new BoundedMap<string, Cached>(MOST_CACHED);
  private readonly underWay = new Map<string, Promise<Answer<RecordType>>>();

  private readonly asking: Asking;

  constructor(private readonly settings: ResolverSettings) {
    const { tries, timeoutMs, gate = null, health = new ServerHealth(() => performance.now(), timeoutMs) } = settings;
    this.asking = { tries, timeoutMs, zone: null, gate, health };
  }

  /** How each configured server fares. */
  states(): ServerState[] {
    return this.asking.health.states(this.settings.servers);
  }

  readonly lookup: Lookup = <T extends RecordType>(name: DnsName, type: T): Promise<Answer<T>> =>
    this.find(name, type, 0) as Promise<Answer<T>>;

  /** Drops what is cached, so that the next look-ups see what is published now. */
  forget(): void {
    this.cache.clear();
  }

  private async find(name: DnsName, type: RecordType, depth: number): Promise<Answer<RecordType>> {
    const key = `${type} ${name}`;
    const now = this.settings.now();
    const cached = this.cache.get(key);
    if (cached && cached.until > now) return aged(cached, now);
    // A further name of a chain never waits for a question under way: that may be the one that waits for it.
    if (depth > 0) return this.ask(name, type, depth);
    const running = this.underWay.get(key);
    if (running !== undefined) return running;
    const question = this.ask(name, type, depth).finally(() => this.underWay.delete(key));
    this.underWay.set(key, question);
    return question;
  }

  private async ask(name: DnsName, type: RecordType, depth: number): Promise<Answer<RecordType>> {
    // RFC 6761 §6.4: there is never such a name, and nobody need be asked.
    if (/(^|\.)invalid$/.test(name)) return { kind: 'none', reason: 'no-such-name' };
    const reply = await this.exchange(name, type);
    if (reply.kind === 'failed') return reply;
    const { message, by } = reply;
    const { values, ttl, target, dname, isEndless } = answerIn(message, name, type);
    if (isEndless) return endless(name, by);
    const led = { alias: target === name ? null : target, ...(dname === null ? {} : { dname }) };
    if (values.length > 0)
      return this.keep(name, type, { kind: 'found', values, ttl, ...led, by } as Answer<RecordType>, Math.min(ttl, LONGEST_POSITIVE));
    // The code of a reply speaks of the end of the aliases in it (RFC 6604 §2).
    if (message.rcode === 'NXDOMAIN')
      return this.keepAbsence(name, type, message, { by, reason: 'no-such-name', ...(target === name ? {} : led) });
    if (target === name) return this.keepAbsence(name, type, message, { by, reason: 'no-such-record' });
    if (depth >= LONGEST_CHAIN) return endless(name, by);
    const next = dnsName(target);
    const further: Answer<RecordType> = next === null ? { kind: 'none', reason: 'no-such-name' } : await this.find(next, type, depth + 1);
    if (further.kind === 'failed') return further;
    if (further.kind === 'none') return { ...further, ...led, alias: further.alias ?? target };
    return this.keep(name, type, { ...further, ...led, alias: further.alias ?? target }, Math.min(ttl, further.ttl));
  }

  private exchange(name: string, type: RecordType): Promise<ServerReply | Failure> {
    return askInTurn(this.settings.servers, name, type, this.asking);
  }

  private keepAbsence(
    name: string,
    type: RecordType,
    message: DnsMessage,
    absence: Omit<Extract<Answer<RecordType>, { kind: 'none' }>, 'kind' | 'ttl'>,
  ): Answer<RecordType> {
    const ttl = absenceTtl(message);
    return this.keep(name, type, { kind: 'none', ttl, ...absence }, Math.min(ttl, LONGEST_NEGATIVE));
  }

  private keep(name: string, type: RecordType, answer: Answer<RecordType>, seconds: number): Answer<RecordType> {
    if (seconds > 0) {
      const now = this.settings.now();
      this.cache.set(`${type} ${name}`, { answer, storedAt: now, until: now + seconds * 1000 });
    }
    return answer;
  }
}

/** Aliases in a circle, or too many of them: nobody knows what is at their end, so it is no absence. */
export const endless = (name: string, by?: string): Answer<RecordType> => ({
  kind: 'failed',
  reason: `the aliases of ${name} have no end`,
  ...(by === undefined ? {} : { by }),
});

/** The answer with the time that it has left. */
function aged(cached: Cached, now: number): Answer<RecordType> {
  if (cached.answer.kind === 'failed') return cached.answer;
  return { ...cached.answer, ttl: Math.max(0, (cached.answer.ttl ?? 0) - Math.floor((now - cached.storedAt) / 1000)) };
}
