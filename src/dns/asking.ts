import { randomFillSync } from 'node:crypto';
import packet, { type Packet } from 'dns-packet';
import type { Gate } from '../core/gate.ts';
import type { RecordType } from '../core/records/answers.ts';
import { isLame } from './reply.ts';
import type { ServerHealth } from './server-health.ts';
import { askTcp, askUdp, type DnsMessage, type Exchange, type Server } from './transport.ts';

export interface ServerReply {
  kind: 'reply';
  message: DnsMessage;
  /** The address of the server that answered. */
  by: string;
}
export type Failure = Extract<Exchange, { kind: 'failed' }> & { by?: string };

/** So many ids are drawn at once: a draw of its own for each question is a call into the system's source each time. */
export const ids = { drawn: new Uint16Array(1024), next: 1024 };

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
  /** Bounds the questions that are under way at once; null for no bound. */
  gate: Gate | null;
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
