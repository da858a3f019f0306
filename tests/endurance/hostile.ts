import { connect, type Socket } from 'node:net';
import { connect as connectTls } from 'node:tls';
import { PASSWORD, type Ports } from './honest.ts';
import { pause } from './machine.ts';

let serial = 0;
/** Another address of the loopback network each time, away from the honest ones. */
const stranger = (): string => {
  serial += 1;
  return `127.1.${(serial >> 8) & 255}.${serial & 255}`;
};

function open(port: number, tls = false): Promise<Socket> {
  return new Promise((resolve, reject) => {
    const socket = connect({ port, host: '127.0.0.1', localAddress: stranger() });
    socket.on('error', reject);
    socket.once('connect', () => {
      if (!tls) return resolve(socket);
      const over = connectTls({ socket, rejectUnauthorized: false });
      over.on('error', reject);
      over.once('secureConnect', () => resolve(over));
    });
  });
}

/** Resolves when something came that matches, or the other side is gone. */
function heard(socket: Socket, wanted: RegExp): Promise<string> {
  return new Promise((resolve) => {
    let text = '';
    const take = (octets: Buffer): void => {
      text += octets.toString('latin1');
      if (wanted.test(text)) end();
    };
    const end = (): void => {
      socket.off('data', take);
      socket.off('close', end);
      resolve(text);
    };
    socket.on('data', take);
    socket.on('close', end);
    if (socket.destroyed) end();
  });
}
const REPLY = /^\d{3}(?: .*)?\r\n$/m;
async function converse(socket: Socket, lines: string[]): Promise<string> {
  let last = await heard(socket, REPLY);
  for (const line of lines) {
    if (socket.destroyed) return last;
    socket.write(`${line}\r\n`);
    last = await heard(socket, REPLY);
  }
  return last;
}

/** Writes, and waits a while for room if there is none: who is not read from may wait for ever. */
async function pour(socket: Socket, octets: Buffer, ms: number): Promise<void> {
  if (socket.write(octets)) return;
  let done = (): void => {};
  const drained = new Promise<void>((resolve) => {
    done = resolve;
  });
  socket.once('drain', done);
  await Promise.race([drained, pause(ms)]);
  socket.off('drain', done);
}

const MIB = Buffer.alloc(1024 * 1024, `${'x'.repeat(76)}\r\n`);
const TO_TARGET = ['EHLO x.example', 'MAIL FROM:<a@stranger.example>', 'RCPT TO:<target@home.example>', 'DATA'];

/** Headers whose reading would take longer than a stranger should be allowed. */
const SHAPES = [
  `Authentication-Results: ${'('.repeat(80_000)}`,
  `From: <${'x\\"'.repeat(25_000)}`,
  `DKIM-Signature: v=1; a=rsa-sha256; d=home.example; s=k; bh=x; b=x; h=from${':\r\n x'.repeat(4000)}\r\n${'x:\r\n'.repeat(4000)}`,
  `Subject: ${'=?utf-8?q?a?= '.repeat(6000)}`,
  `To: ${'"a\\" <'.repeat(12_000)}`,
  `Received: ${'\r\n\t;'.repeat(18_000)}`,
];

/** Each does one bad thing once. */
const DEEDS: Record<string, { at: number; do: (ports: Ports) => Promise<void> }> = {
  'pipelines and never reads': {
    at: 6,
    do: async ({ smtp, pop3s }) => {
      const socket = await open(serial % 3 === 0 ? pop3s : smtp, serial % 3 === 0);
      socket.pause();
      const commands = Buffer.from('NOOP\r\nHELP\r\nEHLO x.example\r\n'.repeat(4000));
      for (let round = 0; round < 200 && !socket.destroyed; round += 1) {
        await pour(socket, commands, 1000);
      }
      await pause(2000);
      socket.destroy();
    },
  },
  'begins a large message and leaves it open': {
    at: 40,
    do: async ({ smtp }) => {
      const socket = await open(smtp);
      if ((await converse(socket, TO_TARGET)).startsWith('354'))
        for (let mib = 0; mib < 31 && !socket.destroyed; mib += 1) await pour(socket, MIB, 5000);
      await pause(8000);
      socket.destroy();
    },
  },
  'opens and says nothing': {
    at: 300,
    do: async ({ smtp, submissions, pop3s, web }) => {
      const socket = await open([smtp, submissions, pop3s, web, web][serial % 5] ?? smtp);
      await Promise.race([heard(socket, /never/), pause(20_000)]);
      socket.destroy();
    },
  },
  'sends a header that is hard to read': {
    at: 4,
    do: async ({ smtp }) => {
      const socket = await open(smtp);
      const shape = SHAPES[serial % SHAPES.length] ?? '';
      if ((await converse(socket, TO_TARGET)).startsWith('354')) {
        socket.write(`${shape}\r\nFrom: x@stranger.example\r\n\r\nx\r\n.\r\n`);
        await heard(socket, REPLY);
      }
      socket.destroy();
    },
  },
  'guesses passwords': {
    at: 6,
    do: async ({ submissions, pop3s }) => {
      const user = ['ana@shop.example', 'reader@home.example', 'operator'][serial % 3] ?? '';
      const socket = await open(serial % 2 === 0 ? submissions : pop3s, true);
      if (serial % 2 === 0) {
        const guess = `AUTH PLAIN ${Buffer.from(`\0${user}\0guess ${serial}`).toString('base64')}`;
        await converse(socket, ['EHLO x.example', guess, guess, guess]);
      } else {
        await heard(socket, /\r\n/);
        socket.write(`USER ${user}\r\nPASS guess\r\nUSER ${user}\r\nPASS another\r\n`);
        await Promise.race([heard(socket, /-ERR[\s\S]*-ERR/), pause(5000)]);
      }
      socket.destroy();
    },
  },
  'cuts in the middle, or talks nonsense': {
    at: 8,
    do: async ({ smtp, submissions, pop3s, web }) => {
      const socket = await open([smtp, submissions, pop3s, web][serial % 4] ?? smtp);
      socket.write(
        [
          Buffer.alloc(5000, 0xff),
          Buffer.from('MAIL FROM:<\r\nRCPT TO:<<<<\r\n'),
          Buffer.from(`${'A'.repeat(60_000)}`),
          Buffer.from('POST /api/v1/sign-in HTTP/1.1\r\nHost: x\r\nContent-Length: 9999999999\r\n\r\n{"a'),
        ][(serial >> 2) % 4] ?? '',
      );
      await pause(100);
      socket.destroy();
    },
  },
  'leaves between a recipient and its answer': {
    at: 4,
    do: async ({ smtp }) => {
      const socket = await open(smtp);
      await converse(socket, TO_TARGET.slice(0, 2));
      if (!socket.destroyed) socket.write('RCPT TO:<target@home.example>\r\n');
      socket.destroy();
    },
  },
  'wants success reports for a forged sender': {
    at: 2,
    do: async ({ smtp }) => {
      const socket = await open(smtp);
      const lines = ['EHLO x.example', 'MAIL FROM:<victim@open.example>', 'RCPT TO:<target@home.example> NOTIFY=SUCCESS', 'DATA'];
      if ((await converse(socket, lines)).startsWith('354')) {
        socket.write('From: victim@open.example\r\nSubject: buy\r\n\r\nx\r\n.\r\n');
        await heard(socket, REPLY);
      }
      socket.destroy();
    },
  },
  'asks the console much and reads nothing': {
    at: 4,
    do: async ({ web }) => {
      const socket = await open(web);
      const path = serial % 2 === 0 ? '/metrics' : '/api/v1/openapi.json';
      await readNothing(socket, `GET ${path} HTTP/1.1\r\nHost: x\r\n\r\n`.repeat(1500), 5000);
    },
  },
  'opens a mailbox, asks for all of it and reads nothing': {
    at: 10,
    do: async ({ imaps }) => {
      const socket = await open(imaps, true);
      socket.write(`a LOGIN reader@home.example "${PASSWORD}"\r\nb EXAMINE INBOX\r\n`);
      await heard(socket, /^b (OK|NO|BAD)/m);
      const all = 'c FETCH 1:* (BODY.PEEK[] BINARY.PEEK[1])\r\nd SEARCH BODY nothing\r\n';
      await readNothing(socket, all.repeat(50), 5000);
    },
  },
  'writes IMAP a line without end': {
    at: 4,
    do: async ({ imaps }) => {
      const socket = await open(imaps, true);
      for (let piece = 0; piece < 6 && !socket.destroyed; piece += 1) {
        await pour(socket, Buffer.alloc(16 * 1024, 'x'), 2000);
        await pause(20);
      }
      socket.destroy();
    },
  },
  'drips a web request': {
    at: 30,
    do: async ({ web }) => {
      const socket = await open(web);
      socket.write('GET /api/v1/overview HTTP/1.1\r\n');
      for (let line = 0; line < 40 && !socket.destroyed; line += 1) {
        socket.write(`X-${line}: y\r\n`);
        await pause(500);
      }
      socket.destroy();
    },
  },
};

/** Reads nothing for a while, then goes. */
async function readNothing(socket: Socket, text: string, ms: number): Promise<void> {
  socket.pause();
  socket.write(text);
  await pause(ms);
  socket.destroy();
}

/** Does every deed again and again, several at once, until the process is told to end; then says how often. */
export async function harass(ports: Ports): Promise<void> {
  // What happens to a hostile client's sockets is nobody's concern.
  process.on('uncaughtException', () => {});
  const done: Record<string, number> = {};
  let ended = false;
  process.on('SIGTERM', () => {
    ended = true;
    process.stdout.write(`${JSON.stringify(done)}\n`, () => process.exit(0));
  });
  for (const [name, deed] of Object.entries(DEEDS)) {
    done[name] = 0;
    for (let at = 0; at < deed.at; at += 1)
      void (async () => {
        while (!ended) {
          try {
            await deed.do(ports);
            done[name] = (done[name] ?? 0) + 1;
          } catch {
            // Refused or cut off: it comes again.
          }
          await pause(100 + ((at * 37) % 200));
        }
      })();
  }
}
