import { createSocket } from 'node:dgram';
import { createServer } from 'node:net';

/** What a reply may measure at most over UDP. */
const LARGEST_DATAGRAM = 1232;

export interface DnsPort {
  port: number;
  close(): void;
}

/** Answers DNS messages on a loopback port, UDP and TCP alike. The handler gets the octets and the largest reply; null stays silent. */
export async function openDnsPort(handle: (query: Buffer, most: number) => Promise<Buffer | null>, wanted: number): Promise<DnsPort> {
  const tcp = createServer((socket) => {
    let received = Buffer.alloc(0);
    socket.on('error', () => socket.destroy());
    socket.on('data', (bytes) => {
      received = Buffer.concat([received, bytes]);
      while (received.length >= 2 && received.length >= received.readUInt16BE(0) + 2) {
        const query = received.subarray(2, received.readUInt16BE(0) + 2);
        received = received.subarray(query.length + 2);
        void handle(query, 65_535).then((answer) => {
          if (answer && socket.writable) socket.write(Buffer.concat([lengthOf(answer), answer]));
        });
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
    void handle(bytes, LARGEST_DATAGRAM).then((answer) => {
      if (answer && open) udp.send(answer, from.port, from.address);
    });
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

function lengthOf(bytes: Buffer): Buffer {
  const length = Buffer.alloc(2);
  length.writeUInt16BE(bytes.length);
  return length;
}
