import { randomFillSync } from 'node:crypto';
import packet, { type Packet, type Answer as WireAnswer } from 'dns-packet';
import { bareName, type DnsName, dnsName } from '../core/address/domain.ts';
import type { Gate } from '../core/gate.ts';
import type { Answer, Lookup, RecordType, ValueOf } from '../core/records/answers.ts';
import { ServerHealth, type ServerState } from './server-health.ts';
import { askTcp, askUdp, type DnsMessage, type Exchange, type Server } from './transport.ts';

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

const LONGEST_CHAIN = 8;
const MOST_CACHED = 50_000;
/** RFC 2308 §5 advises an upper bound for negative answers; RFC 8767 §4 one for all. */
const LONGEST_NEGATIVE = 3 * 3600;
const LONGEST_POSITIVE = 24 * 3600;

type Cached = { answer: Answer<RecordType>; storedAt: number; until: number };

/** A stub resolver with a cache that keeps each answer for its TTL and no longer; failures are not kept. */
export class Resolver {
  private readonly cache = new Map<string, Cached>();
  private readonly underWay = new Map<string, Promise<Answer<RecordType>>>();

  private readonly health: ServerHealth;

  constructor(private readonly settings: ResolverSettings) {
    this.health = settings.health ?? new ServerHealth(() => performance.now(), settings.timeoutMs);
  }

  /** How each configured server fares. */
  states(): ServerState[] {
    return this.health.states(this.settings.servers);
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
    return askInTurn(this.settings.servers, name, type, { ...this.settings, health: this.health, zone: null });
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
      if (this.cache.size >= MOST_CACHED) this.cache.delete(this.cache.keys().next().value ?? '');
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

/** RFC 2308 §5: the lesser of the SOA's TTL and its minimum; without an SOA absence is not cached. */
export function absenceTtl(message: DnsMessage): number {
  const soa = message.authorities?.find((one) => one.type === 'SOA');
  return soa?.type === 'SOA' ? Math.min(soa.ttl ?? 0, soa.data.minimum ?? 0) : 0;
}

export interface ServerReply {
  kind: 'reply';
  message: DnsMessage;
  /** The address of the server that answered. */
  by: string;
}
export type Failure = Extract<Exchange, { kind: 'failed' }> & { by?: string };

/** So many ids are drawn at once: a draw of its own for each question is a call into the system's source each time. */
const ids = { drawn: new Uint16Array(1024), next: 1024 };

/** RFC 5452 §9.2: an id that nobody can foretell. */
function randomId(): number {
  if (ids.next === ids.drawn.length) {
    randomFillSync(ids.drawn);
    ids.next = 0;
  }
  return ids.drawn[ids.next++] ?? 0;
}

export interface Asking {
  /** Rounds over all servers. */
  tries: number;
  timeoutMs: number;
  /** The zone whose own servers are asked; null where they are resolvers, which are asked to look further. */
  zone: string | null;
  gate?: Gate;
  health: ServerHealth;
}

/**
 * Asks one server after the other until one gives a usable reply, some rounds long: those first that have answered lately, and the next one as soon as
 * one has failed or kept silent for a fraction of its time. What is cut off is asked for again by TCP.
 */
export async function askInTurn(
  servers: readonly Server[],
  name: string,
  type: RecordType,
  asking: Asking,
): Promise<ServerReply | Failure> {
  let last: Failure = { kind: 'failed', reason: 'no name server is known' };
  for (let round = 0; round < asking.tries; round += 1) {
    const ordered = asking.health.ordered(servers);
    const probed = asking.health.toProbe(ordered.slice(1));
    // It never rejects, and nobody waits for it.
    if (probed) askOne(probed, name, type, asking).catch(() => {});
    const result = await askStaggered(ordered, name, type, asking);
    if (result.kind === 'reply') return result;
    last = result;
  }
  return last;
}

function askStaggered(servers: readonly Server[], name: string, type: RecordType, asking: Asking): Promise<ServerReply | Failure> {
  return new Promise((resolve) => {
    let last: Failure = { kind: 'failed', reason: 'no name server is known' };
    let next = 0;
    let open = 0;
    let timer: NodeJS.Timeout | null = null;
    let isDone = false;
    const settle = (result: ServerReply | Failure): void => {
      isDone = true;
      if (timer) clearTimeout(timer);
      resolve(result);
    };
    const begin = (): void => {
      if (isDone) return;
      if (timer) clearTimeout(timer);
      const server = servers[next];
      if (!server) {
        if (open === 0) settle(last);
        return;
      }
      next += 1;
      open += 1;
      const hasNext = next < servers.length;
      // The patience counts from when the question is really under way, not while it waits for its turn.
      const sent = (): void => {
        if (hasNext && !isDone) timer = setTimeout(begin, asking.health.patience(server));
      };
      const answered = (result: ServerReply | Failure): void => {
        open -= 1;
        if (isDone) return;
        if (result.kind === 'reply') return settle(result);
        last = result;
        begin();
      };
      askOne(server, name, type, asking, sent).then(answered, (error: unknown) => answered({ kind: 'failed', reason: String(error) }));
    };
    begin();
  });
}

/** One question to one server; never rejects. What it is told of the server's health is whether a reply came, whatever it said. */
async function askOne(
  server: Server,
  name: string,
  type: RecordType,
  { timeoutMs, zone, gate, health }: Asking,
  sent: () => void = () => {},
): Promise<ServerReply | Failure> {
  const by = server.known ?? server.address;
  const query: Packet = {
    type: 'query',
    id: randomId(),
    flags: zone === null ? packet.RECURSION_DESIRED : 0,
    questions: [{ type: type as 'TXT', name }],
    // RFC 6891; 1232 octets pass every path unfragmented.
    additionals: [
      { type: 'OPT', name: '.', udpPayloadSize: 1232, flags: 0, extendedRcode: 0, ednsVersion: 0, flag_do: false, options: [] },
    ],
  };
  let begun = 0;
  const ask = (): Promise<Exchange> => {
    begun = performance.now();
    sent();
    return askUdp(server, query, timeoutMs);
  };
  let exchange = await (gate ? gate.run(ask) : ask());
  if (exchange.kind === 'reply') health.answered(server, performance.now() - begun);
  else health.silent(server);
  if (exchange.kind === 'reply' && exchange.truncated) exchange = await askTcp(server, query, timeoutMs);
  if (exchange.kind === 'failed') return { ...exchange, by };
  const { message } = exchange;
  if (message.rcode !== 'NOERROR' && message.rcode !== 'NXDOMAIN') return { kind: 'failed', reason: `${by} answered ${message.rcode}`, by };
  if (isLame(message, name, zone)) return { kind: 'failed', reason: `${by} answered without knowing the zone`, by };
  return { kind: 'reply', message, by };
}

/**
 * A reply that says nothing about the name (RFC 1912 §2.8): without authority and without recursion, and neither an answer nor the way
 * to a server further down. Taken for an absence, it would make every record seem lost.
 */
function isLame(message: DnsMessage, name: string, zone: string | null): boolean {
  if (message.flag_aa) return false;
  const hasAnswers = (message.answers ?? []).length > 0;
  if (zone === null) return !message.flag_ra && !hasAnswers;
  return hasAnswers || message.rcode === 'NXDOMAIN' || referral(message, zone, name) === null;
}

/** RFC 1034 §4.3.2, step 3b: no answer, but the name servers of a zone further down. One that leads upwards or to the side is none. */
export function referral(message: DnsMessage, zone: string, name: string): { apex: string; names: string[] } | null {
  if (message.flag_aa || (message.answers ?? []).length > 0) return null;
  const servers = (message.authorities ?? []).flatMap((one) => (one.type === 'NS' ? [one] : []));
  const below = bareName(servers[0]?.name ?? '');
  const isDeeper = below.endsWith(`.${zone}`) && isAtOrBelow(name, below);
  return isDeeper ? { apex: below, names: servers.map((one) => bareName(one.data)) } : null;
}

const isAtOrBelow = (name: string, zone: string): boolean => name === zone || name.endsWith(`.${zone}`);

/** Follows the CNAMEs inside one reply and collects the values at their end. */
export function answerIn(
  message: DnsMessage,
  name: string,
  type: RecordType,
): { values: ValueOf[RecordType][]; ttl: number; target: string; dname: string | null; isEndless: boolean } {
  const answers = message.answers ?? [];
  const passed = new Set([name]);
  let target = name;
  let ttl = Number.POSITIVE_INFINITY;
  let isEndless = false;
  while (type !== 'CNAME') {
    const alias = answers.find((one) => one.type === 'CNAME' && bareName(one.name) === target);
    if (alias?.type !== 'CNAME') break;
    ttl = Math.min(ttl, alias.ttl ?? 0);
    target = bareName(alias.data);
    isEndless = passed.has(target) || passed.size > LONGEST_CHAIN;
    if (isEndless) break;
    passed.add(target);
  }
  const above = answers.find((one) => one.type === 'DNAME' && isAtOrBelow(name, bareName(one.name)));
  const values: ValueOf[RecordType][] = [];
  for (const one of answers) {
    if ((one.type as string) !== type || bareName(one.name) !== target) continue;
    ttl = Math.min(ttl, 'ttl' in one ? (one.ttl ?? 0) : 0);
    values.push(valueIn(one));
  }
  return { values, ttl: Number.isFinite(ttl) ? ttl : 0, target, dname: above ? bareName(above.name) : null, isEndless };
}

export function valueIn(answer: WireAnswer): ValueOf[RecordType] {
  // The package knows the retired type by name only; its data are strings like those of TXT (RFC 7208 §3.3).
  if ((answer.type as string) === 'SPF') return characterStrings((answer as { data: Buffer }).data);
  switch (answer.type) {
    case 'SRV':
      return `${answer.data.priority ?? 0} ${answer.data.weight ?? 0} ${answer.data.port} ${bareName(answer.data.target)}`;
    case 'MX':
      return { preference: answer.data.preference ?? 0, exchange: answer.data.exchange === '.' ? '' : bareName(answer.data.exchange) };
    case 'TXT': {
      const parts = Array.isArray(answer.data) ? answer.data : [answer.data];
      // RFC 7208 §3.3: strings are joined without a space.
      return parts.map((part) => (typeof part === 'string' ? part : part.toString('latin1'))).join('');
    }
    case 'A':
    case 'AAAA':
      return answer.data;
    case 'SOA':
      return { serial: answer.data.serial ?? 0, refresh: answer.data.refresh ?? 0 };
    case 'PTR':
    case 'CNAME':
    case 'NS':
      return bareName(answer.data);
    default:
      return '';
  }
}

/** RFC 1035 §3.3: a length, then so many octets, again and again. */
function characterStrings(data: Buffer): string {
  let text = '';
  for (let at = 0; at < data.length; at += 1 + (data[at] ?? 0)) text += data.toString('latin1', at + 1, at + 1 + (data[at] ?? 0));
  return text;
}
