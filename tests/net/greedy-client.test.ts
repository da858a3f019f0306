import { mkdtempSync, rmSync } from 'node:fs';
import { connect, type Socket } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { SecureContext } from 'node:tls';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { serveImap } from '../../src/access/imap-server.ts';
import type { AccessParts } from '../../src/access/open-conversation.ts';
import { servePop3 } from '../../src/access/pop3-server.ts';
import { OwnersGate } from '../../src/core/gate.ts';
import type { AccessPort } from '../../src/core/mailbox/access-port.ts';
import { OctetBudget } from '../../src/core/smtp/octet-budget.ts';
import { REPLIES } from '../../src/core/smtp/replies.ts';
import { loadCertificate } from '../../src/net/certificate.ts';
import { type Connection, Listener } from '../../src/net/listener.ts';
import { serveSmtp } from '../../src/net/smtp-server.ts';
import { SearchIndex } from '../../src/store/search-index.ts';
import type { TextReader } from '../../src/store/text-reader.ts';
import { Talk } from '../support/talk.ts';

const folder = mkdtempSync(join(tmpdir(), 'tenedor-greedy-'));
let secureContext: SecureContext;
let listener: Listener;
const sockets: Socket[] = [];
beforeAll(async () => {
  ({ secureContext } = await loadCertificate(null, folder, 'mail.host.example'));
});
afterEach(() => {
  listener.stopAccepting();
  listener.destroyAll();
  for (const one of sockets.splice(0)) one.destroy();
});
afterAll(() => rmSync(folder, { recursive: true }));

/** What is held and let go, as the service would. */
interface Seen {
  accepted: Connection[];
  released: number;
  messages: number[];
}

async function open(serve: (connection: Connection, seen: Seen) => void, implicitTls = false): Promise<{ port: number; seen: Seen }> {
  const seen: Seen = { accepted: [], released: 0, messages: [] };
  listener = new Listener(
    { address: '127.0.0.1', port: 0, proxy: false, implicitTls, tls: { secureContext }, mostPerAddress: () => 50 },
    (connection) => {
      seen.accepted.push(connection);
      serve(connection, seen);
    },
    () => {},
  );
  return { port: await listener.listen(), seen };
}

const smtp =
  (budget?: OctetBudget) =>
  (connection: Connection, seen: Seen): void => {
    const settings = { hostName: 'mail.host.example', service: 'inbound' as const, maxMessageBytes: 4_000_000, tls: { secureContext } };
    serveSmtp(
      connection,
      { ...settings, ...(budget ? { budget } : {}) },
      {
        decide: async (intent) => {
          if (intent.kind === 'message') seen.messages.push(intent.content.length);
          return { accepted: true, reply: REPLIES.ok };
        },
        abandon: () => {},
        closed: () => {
          seen.released += 1;
        },
        fault: () => {},
      },
    );
  };

const LARGE = 3_000_000;
/** A mailbox of many messages, each of them large; only what the two protocols read of it here is there. */
function mailbox(seen: Seen): AccessParts {
  const messages = Array.from({ length: 2000 }, (_none, at) => ({
    id: at + 1,
    uid: at + 1,
    size: LARGE,
    prefix: '',
    file: 'f',
    outlineId: at + 1,
    journeyId: null,
    modseq: 1,
    flags: 1,
    keywords: '',
    parts: '{"start":0,"bodyStart":0,"end":3000000,"type":"text/plain","encoding":"7bit","charset":null,"children":[]}',
  }));
  const marks = Object.fromEntries(
    (['uid', 'modseq', 'flags', 'keywords'] as const).map((name) => [name, JSON.stringify(messages.map((one) => one[name]))]),
  );
  const folder = { id: 7, name: 'INBOX', highestModseq: 1, nextUid: 2001, rights: 'lrswipkxtea' };
  return {
    db: {
      one: <Row>(sql: string) =>
        (sql.includes('json_group_array') ? marks : sql.includes('FROM folder') && !sql.includes('message') ? folder : messages[0]) as Row,
      all: <Row>(sql: string, ...values: unknown[]) =>
        (sql.includes('mailbox_member') || sql.includes('FROM expunged')
          ? []
          : sql.includes('pop3_junk')
            ? [{ id: 7, isJunk: 0 }]
            : sql.includes('FROM folder f WHERE mailbox_id')
              ? [folder]
              : values.some((one) => one === 2000)
                ? []
                : messages) as Row[],
    },
    index: new SearchIndex('nowhere'),
    texts: {
      requireWhole: async () => {},
      slice: async (_name: string, _size: number, from: number, to: number) => Buffer.alloc(to - from, 'x\r\n'),
    } as unknown as TextReader,
    port: {
      signIn: async () => ({ kind: 'ok', session: 1, mailboxId: 1, address: 'a@shop.example' }),
      leave: () => {
        seen.released += 1;
      },
    } as unknown as AccessPort,
    literals: new OctetBudget(1e9, () => 0),
    largeTexts: new OwnersGate(1e9),
    onFault: () => {},
  };
}
const pop = (connection: Connection, seen: Seen): void => {
  servePop3(connection, { hostName: 'mail.host.example', tls: { secureContext }, outlineLater: () => {} }, mailbox(seen));
};
const imap = (connection: Connection, seen: Seen): void => {
  const settings = {
    hostName: 'mail.host.example',
    version: '1',
    maxMessageBytes: 1e6,
    tls: { secureContext },
    now: Date.now,
    onFolder: () => {},
  };
  serveImap(connection, settings, mailbox(seen));
};

/** A client that sends for as long as anybody reads, and reads nothing itself; tells how much went out until nothing more did. */
async function sendsWithoutReading(port: number, first: string, again: string): Promise<{ sent: number; socket: Socket }> {
  const socket = connect(port, '127.0.0.1');
  sockets.push(socket);
  socket.on('error', () => {});
  socket.pause();
  socket.write(first);
  const piece = Buffer.from(again.repeat(Math.ceil(65_536 / again.length)));
  let sent = 0;
  // Until the other side has read nothing for a second: everything between us is full then.
  for (;;) {
    const went = await new Promise<boolean>((resolve) => {
      const timer = setTimeout(() => resolve(false), 1000);
      socket.write(piece, () => {
        clearTimeout(timer);
        resolve(true);
      });
    });
    if (!went || sent > 60_000_000) return { sent, socket };
    sent += piece.length;
  }
}

describe('a client that pipelines and never reads', () => {
  it('is not read from while our replies wait (SMTP)', async () => {
    const { port, seen } = await open(smtp());
    const { sent } = await sendsWithoutReading(port, 'EHLO x.example\r\n', 'NOOP\r\n');
    expect(sent).toBeLessThan(30_000_000);
    const { socket } = seen.accepted[0] as Connection;
    expect(socket.writableLength).toBeLessThan(300_000);
    // Everybody else is served.
    const talk = await Talk.to(port);
    expect(await talk.say(null)).toMatch(/^220/);
    talk.end();
  });

  it('is not read from while our replies wait (POP3), however large the messages are', async () => {
    const { port, seen } = await open((connection, all) => pop({ ...connection, secure: true }, all));
    const { sent } = await sendsWithoutReading(port, 'USER a\r\nPASS b\r\n', 'LIST\r\nRETR 1\r\nNOOP\r\n');
    expect(sent).toBeLessThan(30_000_000);
    expect((seen.accepted[0] as Connection).socket.writableLength).toBeLessThan(300_000);
  });

  it.each([
    'BODY.PEEK[]',
    'BINARY.PEEK[]',
    'BINARY.PEEK[1]',
    'BODY.PEEK[1]',
    'RFC822.TEXT',
    '(BODY.PEEK[HEADER.FIELDS (TO)] BINARY.SIZE[1])',
  ])('is not read from while our replies wait (IMAP), however large the messages are: %s', async (item) => {
    const { port, seen } = await open((connection, all) => imap({ ...connection, secure: true }, all));
    const before = process.memoryUsage().arrayBuffers;
    const { sent } = await sendsWithoutReading(port, 'a LOGIN a b\r\nb SELECT INBOX\r\n', `c FETCH 1:* ${item}\r\nd NOOP\r\n`);
    expect(sent).toBeLessThan(30_000_000);
    // One piece of a text, and what was before it.
    expect((seen.accepted[0] as Connection).socket.writableLength).toBeLessThan(1_200_000);
    expect(process.memoryUsage().arrayBuffers - before).toBeLessThan(150_000_000);
  });
});

describe('a long command (IMAP)', () => {
  const begin = async (): Promise<{ talk: Talk; seen: Seen }> => {
    const { port, seen } = await open((connection, all) => imap({ ...connection, secure: true }, all));
    const talk = await Talk.to(port);
    talk.write('a LOGIN a b\r\nb SELECT INBOX\r\n');
    await talk.until((text) => /^b OK/m.test(text));
    return { talk, seen };
  };
  const long = (octets: number): string => `c UID FETCH ${'1,'.repeat(octets / 2)}1 UID`;
  it.each([
    ['at once', (talk: Talk, text: string) => talk.write(text)],
    [
      'in pieces',
      (talk: Talk, text: string) => {
        for (let at = 0; at < text.length; at += 1000) talk.write(text.slice(at, at + 1000));
      },
    ],
  ])('is answered as long as it may be, and ends the conversation beyond: %s', async (_how, write) => {
    const { talk } = await begin();
    write(talk, `${long(60_000)}\r\n`);
    expect(await talk.until((text) => /^c /m.test(text))).toMatch(/^c BAD The set has too many parts/m);
    write(talk, long(100_000));
    expect(await talk.closed()).toMatch(/^\* BYE The line is too long/m);
  });
  it('that never ends keeps nothing once its client is gone', async () => {
    const { talk, seen } = await begin();
    talk.write(long(50_000));
    await expect.poll(() => (seen.accepted[0] as Connection).socket.bytesRead).toBeGreaterThan(50_000);
    talk.end();
    await expect.poll(() => seen.released).toBeGreaterThan(0);
  });
});

describe('what has ended', () => {
  it('is closed by us within seconds, and free at once (SMTP)', async () => {
    const { port, seen } = await open(smtp());
    const talk = await Talk.to(port);
    await talk.say(null);
    talk.write('QUIT\r\n');
    expect(await talk.until((text) => text.includes('221'))).toMatch(/^221 2\.0\.0/);
    expect(seen.released).toBeGreaterThan(0);
    // The client keeps its end open for as long as it likes, and goes on writing.
    const [{ socket }] = seen.accepted as [Connection];
    talk.write('NOOP\r\n'.repeat(100));
    await expect.poll(() => socket.destroyed).toBe(true);
    talk.end();
  });

  it('is free at once after QUIT (POP3, RFC 1939 §6)', async () => {
    const { port, seen } = await open((connection, all) => pop({ ...connection, secure: true }, all));
    const talk = await Talk.to(port);
    await talk.pop(null);
    await talk.pop('USER a');
    await talk.pop('PASS b');
    expect(await talk.pop('QUIT')).toMatch(/^\+OK/);
    expect(seen.released).toBeGreaterThan(0);
    await expect.poll(() => (seen.accepted[0] as Connection).socket.destroyed).toBe(true);
    talk.end();
  });
});

describe('messages under way', () => {
  const begin = async (port: number): Promise<Talk> => {
    const talk = await Talk.to(port);
    await talk.say(null);
    await talk.say('EHLO x.example');
    await talk.say('MAIL FROM:<a@b.example>');
    await talk.say('RCPT TO:<c@d.example>');
    await talk.say('DATA');
    return talk;
  };
  const TEXT = `\r\n${`${'x'.repeat(98)}\r\n`.repeat(30_000)}`;

  it('are bounded over all conversations; one that stands still gives way to one that gets on', async () => {
    let now = 0;
    const budget = new OctetBudget(6_000_000, () => now);
    const { port, seen } = await open(smtp(budget));
    const idle = await begin(port);
    idle.write(TEXT);
    await expect.poll(() => budget.used).toBeGreaterThan(2_900_000);
    // While the first is fresh, a second one that does not fit is told so at its end.
    const second = await begin(port);
    expect(await second.say(`${TEXT}.`)).toBe('452 4.3.1 The server has no room for more messages right now; try again soon');
    // Small ones fit beside it.
    const small = await begin(port);
    expect(await small.say('hello\r\n.')).toMatch(/^250/);
    now += 11_000;
    await second.say('MAIL FROM:<a@b.example>');
    await second.say('RCPT TO:<c@d.example>');
    await second.say('DATA');
    expect(await second.say(`${TEXT}.`)).toMatch(/^250/);
    expect(await idle.say('.')).toMatch(/^452 4\.3\.1/);
    expect(seen.messages).toEqual([7, 3_000_002]);
    expect(budget.used).toBe(0);
    for (const one of [idle, second, small]) one.end();
  });

  it('count from the first octet, and no more when their client goes', async () => {
    const budget = new OctetBudget(6_000_000, () => 0);
    const { port } = await open(smtp(budget));
    const talk = await begin(port);
    talk.write('x');
    await expect.poll(() => budget.used).toBeGreaterThan(0);
    talk.end();
    await expect.poll(() => budget.used).toBe(0);
    const chunks = await Talk.to(port);
    await chunks.say(null);
    for (const line of ['EHLO x.example', 'MAIL FROM:<a@b.example>', 'RCPT TO:<c@d.example>']) await chunks.say(line);
    // Five thousand chunks of two octets cost no more than their octets.
    chunks.write('BDAT 2\r\n\r\n'.repeat(5000));
    await expect.poll(() => budget.used).toBe(16_384);
    chunks.write('RSET\r\n');
    await expect.poll(() => budget.used).toBe(0);
    chunks.end();
  });
});
