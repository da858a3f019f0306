import { createSocket } from 'node:dgram';
import { createServer } from 'node:net';
import packet, { type Packet, type Question } from 'dns-packet';

/** What a reply may measure at most over UDP. */
const LARGEST_DATAGRAM = 1232;

export interface Query {
  octets: Buffer;
  message: Packet;
  question: Question;
}

export interface DnsPort {
  port: number;
  close(): void;
}

/**
 * Answers DNS messages on a loopback port, UDP and TCP alike. The handler gets the message, its octets and the largest reply; null stays
 * silent, as does what can't be read.
 */
export async function openDnsPort(answer: (query: Query, most: number) => Promise<Buffer | null>, wanted: number): Promise<DnsPort> {
  const handle = async (octets: Buffer, most: number): Promise<Buffer | null> => {
    const query = readQuery(octets);
    return query && answer(query, most);
  };
  const tcp = createServer((socket) => {
    let received = Buffer.alloc(0);
    socket.on('error', () => socket.destroy());
    socket.on('data', (bytes) => {
      received = Buffer.concat([received, bytes]);
      while (received.length >= 2 && received.length >= received.readUInt16BE(0) + 2) {
        const query = received.subarray(2, received.readUInt16BE(0) + 2);
        received = received.subarray(query.length + 2);
        handle(query, 65_535).then(
          (answer) => {
            if (answer && socket.writable) socket.write(Buffer.concat([lengthOf(answer), answer]));
          },
          () => socket.destroy(),
        );
      }
    });
  });
  const port = await new Promise<number>((resolve, reject) => {
    tcp.once('error', reject);
    tcp.listen(wanted, '127.0.0.1', () => resolve((tcp.address() as { port: number }).port));
  });
  const udp = createSocket('udp4');
  let open = true;
  udp.on('message', (bytes, from) => {
    handle(bytes, LARGEST_DATAGRAM).then(
      (answer) => {
        if (answer && open) udp.send(answer, from.port, from.address);
      },
      () => {},
    );
  });
  await new Promise<void>((resolve, reject) => {
    udp.once('error', reject);
    udp.bind(port, '127.0.0.1', resolve);
  });
  return {
    port,
    close: () => {
      open = false;
      udp.close();
      tcp.close();
    },
  };
}

const UPDATE = 5;

/** Header and question, as if nothing followed. */
function withoutRecords(octets: Buffer): Buffer {
  const copy = Buffer.from(octets);
  copy.fill(0, 6, 12);
  return copy;
}

/** The query in a message; null where there is none. */
export function readQuery(octets: Buffer): Query | null {
  try {
    // The records of an update may have no data (RFC 2136 §2.4), which the package can't read: whoever takes one reads them.
    const message = packet.decode(((octets[2] ?? 0) >> 3) % 16 === UPDATE ? withoutRecords(octets) : octets);
    const question = message.questions?.[0];
    return question ? { octets, message, question } : null;
  } catch {
    return null;
  }
}

function lengthOf(bytes: Buffer): Buffer {
  const length = Buffer.alloc(2);
  length.writeUInt16BE(bytes.length);
  return length;
}
