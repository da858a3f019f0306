import { createServer, type Server, type Socket } from 'node:net';

/** A server outside of the house: what it took, by recipient. */
export interface Outside {
  port: number;
  /** How often each recipient's message was taken. */
  taken: Map<string, number>;
  close(): void;
}

function listening(onConnection: (socket: Socket) => void, taken = new Map<string, number>()): Promise<Outside> {
  const sockets = new Set<Socket>();
  const server: Server = createServer((socket) => {
    sockets.add(socket);
    socket.on('close', () => sockets.delete(socket));
    socket.on('error', () => {});
    onConnection(socket);
  });
  return new Promise((resolve) =>
    server.listen(0, '127.0.0.1', () =>
      resolve({
        port: (server.address() as { port: number }).port,
        taken,
        close: () => {
          server.close();
          for (const one of sockets) one.destroy();
        },
      }),
    ),
  );
}

/** Takes everything, and writes down for whom. With `breakEvery`, every so-many-th message gets no answer, although it was taken. */
export function openServer(breakEvery: number): Promise<Outside> {
  const taken = new Map<string, number>();
  let messages = 0;
  return listening((socket) => {
    let text = '';
    let recipients: string[] = [];
    let inData = false;
    socket.write('220 open.example ESMTP\r\n');
    socket.on('data', (octets) => {
      text += octets.toString('latin1');
      for (;;) {
        const end = inData ? text.indexOf('\r\n.\r\n') : text.indexOf('\r\n');
        if (end < 0) return;
        const line = text.slice(0, end);
        text = text.slice(end + (inData ? 5 : 2));
        if (inData) {
          inData = false;
          messages += 1;
          for (const one of recipients) taken.set(one, (taken.get(one) ?? 0) + 1);
          if (messages % breakEvery === 0) return void socket.destroy();
          socket.write('250 2.0.0 Kept\r\n');
          continue;
        }
        const verb = line.slice(0, 4).toUpperCase();
        if (verb === 'MAIL') recipients = [];
        if (verb === 'RCPT') recipients.push(/<([^>]*)>/.exec(line)?.[1] ?? '');
        inData = verb === 'DATA';
        socket.write(
          { EHLO: '250-open.example\r\n250-PIPELINING\r\n250 SIZE 99999999\r\n', DATA: '354 Go\r\n', QUIT: '221 Bye\r\n' }[verb] ??
            '250 Fine\r\n',
        );
      }
    });
  }, taken);
}

/** Accepts connections and never says a word. */
export const hungServer = (): Promise<Outside> => listening(() => {});

/** Answers an octet at a time, and never comes to an end. */
export const drippingServer = (): Promise<Outside> =>
  listening((socket) => {
    socket.write('220-');
    const timer = setInterval(() => socket.write('x'), 500);
    socket.on('close', () => clearInterval(timer));
  });
