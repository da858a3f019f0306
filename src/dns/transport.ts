import { createSocket } from 'node:dgram';
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

/** One question over UDP. Only a reply from that server's port, with our id and question, is taken. */
export function askUdp(server: Server, query: Packet, timeoutMs: number): Promise<Exchange> {
  return new Promise((resolve) => {
    const socket = createSocket(server.address.includes(':') ? 'udp6' : 'udp4');
    const finish = (exchange: Exchange): void => {
      clearTimeout(timer);
      socket.removeAllListeners();
      socket.on('error', () => {});
      socket.close();
      resolve(exchange);
    };
    const timer = setTimeout(
      () => finish({ kind: 'failed', reason: `${server.known ?? server.address} did not answer in time` }),
      timeoutMs,
    );
    socket.on('error', (error) =>
      finish({
        kind: 'failed',
        reason: `${server.known ?? server.address} can't be reached (${(error as NodeJS.ErrnoException).code ?? error.message})`,
      }),
    );
    socket.on('message', (bytes) => {
      const message = decoded(bytes, query);
      if (message) finish({ kind: 'reply', message, truncated: message.flag_tc });
    });
    // A connected socket has a fresh random port and drops what comes from anywhere else.
    socket.connect(server.port, server.address, () => socket.send(packet.encode(query)));
  });
}

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
    let received = Buffer.alloc(0);
    const finish = (result: Buffer | string): void => {
      clearTimeout(timer);
      socket.destroy();
      resolve(typeof result === 'string' ? { kind: 'failed', reason: result } : result);
    };
    const timer = setTimeout(() => finish(`${where} did not answer in time (TCP)`), timeoutMs);
    socket.on('error', (error) => finish(`${where} can't be reached by TCP (${(error as NodeJS.ErrnoException).code ?? error.message})`));
    socket.on('close', () => finish(`${where} closed the TCP connection`));
    socket.on('connect', () => {
      const length = Buffer.alloc(2);
      length.writeUInt16BE(message.length);
      socket.write(Buffer.concat([length, message]));
    });
    socket.on('data', (bytes) => {
      received = Buffer.concat([received, bytes]);
      if (received.length > LARGEST_REPLY + 2) return finish(`${where} answers without end`);
      if (received.length >= 2 && received.length >= received.readUInt16BE(0) + 2)
        finish(received.subarray(2, received.readUInt16BE(0) + 2));
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
