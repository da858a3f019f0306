import { createSocket, type Socket } from 'node:dgram';
import { connect } from 'node:net';
import packet, { type DecodedPacket, type Packet } from 'dns-packet';

/** What dns-packet decodes; its types leave the response code out. */
export type DnsMessage = DecodedPacket & { rcode: string };

export interface Server {
  address: string;
  port: number;
  /** The address it is known by, where a dial map leads elsewhere. */
  known?: string;
}

export type Exchange = { kind: 'reply'; message: DnsMessage; truncated: boolean } | { kind: 'failed'; reason: string };

const LARGEST_REPLY = 64 * 1024;

/**
 * One question over UDP. Only a reply from that server's port, with our id and question, is taken. Whatever goes wrong on the way (an
 * address that no datagram can go to, no route, no descriptor, a name that has no wire form) is a failure of this question and of nothing else.
 */
export function askUdp(server: Server, query: Packet, timeoutMs: number): Promise<Exchange> {
  const where = server.known ?? server.address;
  return new Promise((resolve) => {
    let socket: Socket | null = null;
    let timer: NodeJS.Timeout | null = null;
    let isDone = false;
    const finish = (exchange: Exchange): void => {
      if (isDone) return;
      isDone = true;
      if (timer) clearTimeout(timer);
      if (socket) {
        socket.removeAllListeners();
        socket.on('error', () => {});
        socket.close();
      }
      resolve(exchange);
    };
    const failed = (error: unknown): void => finish({ kind: 'failed', reason: `${where} can't be reached (${faultCode(error)})` });
    try {
      const octets = packet.encode(query);
      const opened = createSocket(server.address.includes(':') ? 'udp6' : 'udp4');
      socket = opened;
      timer = setTimeout(() => finish({ kind: 'failed', reason: `${where} did not answer in time` }), timeoutMs);
      opened.on('error', failed);
      opened.on('message', (bytes) => {
        const message = decoded(bytes, query);
        if (message) finish({ kind: 'reply', message, truncated: message.flag_tc });
      });
      // A connected socket has a fresh random port and drops what comes from anywhere else. Its callback gets the error, not the event.
      opened.connect(server.port, server.address, ((error?: Error) => {
        if (isDone) return;
        if (error) return failed(error);
        opened.send(octets, (fault) => {
          if (fault) failed(fault);
        });
      }) as () => void);
    } catch (error) {
      failed(error);
    }
  });
}

const faultCode = (error: unknown): string => (error as NodeJS.ErrnoException).code ?? (error as Error).message;

/** The same over TCP, for replies that don't fit a datagram (RFC 7766). */
export async function askTcp(server: Server, query: Packet, timeoutMs: number): Promise<Exchange> {
  const reply = await exchangeTcp(server, packet.encode(query), timeoutMs);
  if (!Buffer.isBuffer(reply)) return reply;
  const message = decoded(reply, query);
  return message
    ? { kind: 'reply', message, truncated: false }
    : { kind: 'failed', reason: `${server.address} sent a reply that can't be read` };
}

/** One message over TCP and the reply to it, both as octets (RFC 1035 §4.2.2). */
export function exchangeTcp(server: Server, message: Buffer, timeoutMs: number): Promise<Buffer | { kind: 'failed'; reason: string }> {
  const where = server.known ?? server.address;
  return new Promise((resolve) => {
    const socket = connect(server.port, server.address);
    const received: Buffer[] = [];
    let octets = 0;
    const finish = (result: Buffer | string): void => {
      clearTimeout(timer);
      socket.destroy();
      resolve(typeof result === 'string' ? { kind: 'failed', reason: result } : result);
    };
    const timer = setTimeout(() => finish(`${where} did not answer in time (TCP)`), timeoutMs);
    socket.on('error', (error) => finish(`${where} can't be reached by TCP (${faultCode(error)})`));
    socket.on('close', () => finish(`${where} closed the TCP connection`));
    socket.on('connect', () => {
      const length = Buffer.alloc(2);
      length.writeUInt16BE(message.length);
      socket.write(Buffer.concat([length, message]));
    });
    socket.on('data', (bytes) => {
      received.push(bytes);
      octets += bytes.length;
      if (octets > LARGEST_REPLY + 2) return finish(`${where} answers without end`);
      // The pieces are put together at the beginning, for the length, and at the end: a reply octet by octet costs no more for that.
      const head = octets < 2 ? null : received[0] !== undefined && received[0].length >= 2 ? received[0] : Buffer.concat(received);
      if (head === null || octets < head.readUInt16BE(0) + 2) return;
      finish(Buffer.concat(received).subarray(2, head.readUInt16BE(0) + 2));
    });
  });
}

/** The reply when it is one to this query, else null. */
function decoded(bytes: Buffer, query: Packet): DnsMessage | null {
  try {
    const message = packet.decode(bytes) as DnsMessage;
    const asked = query.questions?.[0];
    const answered = message.questions?.[0];
    if (message.type !== 'response' || message.id !== query.id) return null;
    if (!asked || !answered || asked.type !== answered.type || asked.name.toLowerCase() !== answered.name.toLowerCase()) return null;
    return message;
  } catch {
    return null;
  }
}
