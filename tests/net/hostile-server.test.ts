import { mkdtempSync, rmSync } from 'node:fs';
import { type AddressInfo, createServer, type Server, type Socket } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { type SecureContext, TLSSocket } from 'node:tls';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { heldContent } from '../../src/core/message/mail-content.ts';
import type { Envelope } from '../../src/core/smtp/client-intents.ts';
import { loadCertificate } from '../../src/net/certificate.ts';
import { SmtpClient } from '../../src/net/smtp-client.ts';
import type { AttemptResult, RemoteHost } from '../../src/service/base/ports.ts';

const ADDRESS = '203.0.113.20';
const PATIENT = { connectMs: 60_000, replyMs: 60_000, wholeMs: 120_000, eachMs: 0 };
/** For those who say nothing, and for those who never end. */
const BRIEF = { ...PATIENT, connectMs: 400, replyMs: 400 };
const SHORT = { ...PATIENT, wholeMs: 1500 };
let folder: string;
let secureContext: SecureContext;
let server: Server;
const open = new Set<Socket>();

beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), 'tenedor-hostile-'));
  ({ secureContext } = await loadCertificate(null, folder, 'mx.far.example'));
});
afterAll(() => rmSync(folder, { recursive: true }));
afterEach(() => {
  for (const socket of open) socket.destroy();
  server.close();
});

/** The other end of a connection, as a script says. */
class Remote {
  private heard = '';
  private listener: (() => void) | null = null;

  constructor(readonly socket: Socket) {
    socket.on('error', () => {});
    socket.on('close', () => this.listener?.());
    socket.on('data', (bytes) => {
      this.heard += bytes.toString('latin1');
      this.listener?.();
    });
  }

  say(text: string): void {
    this.socket.write(`${text}\r\n`);
  }

  /** The next line of the client; what it said so far when it goes. */
  async hear(end = '\r\n'): Promise<string> {
    while (!this.heard.includes(end) && !this.socket.destroyed)
      await new Promise<void>((resolve) => {
        this.listener = resolve;
      });
    const at = this.heard.indexOf(end);
    const line = at < 0 ? this.heard : this.heard.slice(0, at);
    this.heard = at < 0 ? '' : this.heard.slice(at + end.length);
    return line;
  }

  /** Says what belongs there, until that command has come. */
  async until(command: string, offers: readonly string[] = []): Promise<void> {
    this.say('220 mx.far.example');
    for (let line = await this.hear(); !line.startsWith(command) && line !== ''; line = await this.hear()) {
      if (line.startsWith('EHLO')) this.say(['250-mx.far.example', ...offers.map((one) => `250-${one}`), '250 8BITMIME'].join('\r\n'));
      else this.say(line === 'DATA' ? '354 go on' : '250 well');
    }
  }

  async secured(): Promise<Remote> {
    this.socket.removeAllListeners('data');
    const tls = new TLSSocket(this.socket, { isServer: true, secureContext });
    return new Remote(tls);
  }
}

/** A server that answers each connection by the script. */
async function behaves(script: (remote: Remote) => Promise<void> | void, waits = PATIENT): Promise<SmtpClient> {
  server = createServer((socket) => {
    open.add(socket);
    void script(new Remote(socket));
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const { port } = server.address() as AddressInfo;
  return new SmtpClient({
    hostName: 'mail.host.example',
    ownAddresses: ['192.0.2.25'],
    dial: [{ address: ADDRESS, port: 25, through: { address: '127.0.0.1', port }, proxy: false }],
    trustedRoots: null,
    waits,
  });
}
const HOST: RemoteHost = {
  name: 'mx.far.example',
  address: ADDRESS,
  port: 25,
  tls: 'offered',
  verify: false,
  credentials: null,
  sourceIpv4: null,
  sourceIpv6: null,
};
const envelope = (...recipients: string[]): Envelope => ({
  sender: 'ana@shop.example',
  recipients: recipients.map((address) => ({ address, notify: null, original: null })),
  content: heldContent(Buffer.from('Subject: x\r\n\r\n.\r\nQUIT\r\n')),
  smtputf8: false,
  returnContent: null,
  envelopeId: null,
});
/** More than the buffers of a connection hold. */
const LARGE = Buffer.from(`Subject: x\r\n\r\n${`${'x'.repeat(70)}\r\n..\r\n`.repeat(300_000)}`);
async function attempt(
  script: (remote: Remote) => Promise<void> | void,
  host: Partial<RemoteHost> = {},
  waits = PATIENT,
): Promise<AttemptResult> {
  const client = await behaves(script, waits);
  const result = await client.send({ ...HOST, ...host }, envelope('a@far.example', 'b@far.example'));
  client.close();
  return result;
}
const kinds = (result: AttemptResult): unknown =>
  result.kind === 'done' ? result.outcomes.map((one) => `${one.kind} ${one.reply.code}`) : result.reason;

describe('a server that breaks off or says nothing leaves the message to be tried again', () => {
  it.each<[string, (remote: Remote) => Promise<void> | void, RegExp, waits?: typeof PATIENT]>([
    ['closes at once', (remote) => remote.socket.destroy(), /closed the connection|ECONNRESET/],
    ['says nothing', () => {}, /did not answer in time/, BRIEF],
    ['greets in another language', (remote) => remote.say('* OK [CAPABILITY] ready'), /mx\.far\.example|reply/],
    ['greets without end', (remote) => remote.socket.write(`220-${'x'.repeat(80_000)}`), /does not end/],
    ['has no room at the greeting', (remote) => remote.say('421 4.3.2 Too busy'), /421 4\.3\.2 Too busy/],
    ['closes at MAIL', (remote) => remote.until('MAIL').then(() => void remote.socket.destroy()), /closed the connection|ECONNRESET/],
    ['closes at DATA', (remote) => remote.until('DATA').then(() => void remote.socket.destroy()), /closed the connection|ECONNRESET/],
    [
      'falls silent after the text',
      async (remote) => {
        await remote.until('DATA');
        remote.say('354 go on');
        await remote.hear('\r\n.\r\n');
      },
      /did not answer in time/,
      BRIEF,
    ],
    [
      'drips a reply that never ends',
      async (remote) => {
        await remote.until('RCPT');
        while (!remote.socket.destroyed) {
          remote.say('250-and');
          await new Promise((resolve) => setTimeout(resolve, 100));
        }
      },
      /took too long/,
      SHORT,
    ],
  ])('%s', async (_what, script, reason, waits) => {
    const result = await attempt(script, {}, waits);
    expect(result.kind).toBe('unreachable');
    expect(kinds(result)).toMatch(reason);
  });
});

it('a large text that is refused on the way stays without its end', async () => {
  let tell: (heard: string) => void = () => {};
  const heard = new Promise<string>((resolve) => {
    tell = resolve;
  });
  const client = await behaves(async (remote) => {
    await remote.until('DATA');
    remote.say('354 go on\r\n552 5.3.4 Enough');
    tell(await remote.hear('\r\n.\r\n'));
  });
  expect(kinds(await client.send(HOST, { ...envelope('a@far.example'), content: heldContent(LARGE) }))).toEqual(['never 552']);
  expect((await heard).length).toBeLessThan(LARGE.length);
  client.close();
});

it('a large text arrives as it is', async () => {
  let text = '';
  const client = await behaves(async (remote) => {
    await remote.until('DATA');
    remote.say('354 go on');
    text = await remote.hear('\r\n.\r\n');
    remote.say('250 2.0.0 Kept');
  });
  expect(kinds(await client.send(HOST, { ...envelope('a@far.example'), content: heldContent(LARGE) }))).toEqual(['taken 250']);
  client.close();
  expect(`${text.replace(/\r\n\.\./g, '\r\n.')}\r\n` === LARGE.toString()).toBe(true);
});

it('a text is read as fast as the server takes it, and never ends with its dot when it can’t be read', async () => {
  const piece = Buffer.alloc(1_000_000, 'x'.repeat(98).concat('\r\n'));
  let read = 0;
  const content = (most: number) => ({
    size: 1e9,
    isAscii: true,
    isPlain: true,
    pieces: async function* () {
      for (read = 0; read < most; read += 1) yield piece;
      throw new Error('no more of it');
    },
  });
  const stalls = await behaves(async (remote) => {
    await remote.until('DATA');
    remote.socket.pause();
    remote.say('354 go on');
  }, BRIEF);
  expect(await stalls.send(HOST, { ...envelope('a@far.example'), content: content(1000) })).toMatchObject({ kind: 'unreachable' });
  expect(read).toBeLessThan(30);
  stalls.close();
  server.close();
  let heard = '';
  const reads = await behaves(async (remote) => {
    await remote.until('DATA');
    remote.say('354 go on');
    heard = await remote.hear('\r\n.\r\n');
  });
  await expect(reads.send(HOST, { ...envelope('a@far.example'), content: content(3) })).rejects.toThrow('no more of it');
  expect(heard.endsWith('.\r\n')).toBe(false);
  reads.close();
});

it('a server that takes a text before it has it all has not taken it', async () => {
  const client = await behaves(async (remote) => {
    await remote.until('DATA');
    remote.say('354 go on');
    // Once some of the text has come, and is not read any more.
    await new Promise<void>((resolve) => remote.socket.once('data', () => resolve()));
    remote.socket.pause();
    remote.say('250 2.0.0 Kept');
  });
  expect(kinds(await client.send(HOST, { ...envelope('a@far.example'), content: heldContent(LARGE) }))).toMatch(/before the end/);
  client.close();
});

it('what it says of one recipient counts for that one; 250 to the text counts for those it took', async () => {
  const result = await attempt(async (remote) => {
    await remote.until('RCPT');
    remote.say('550-5.1.1 Nobody\r\n550 5.1.1 \u001b[2Jof that name');
    await remote.hear();
    remote.say('250 well');
    await remote.hear();
    remote.say('354 go on');
    // Dots are doubled, so that the text does not end itself and say QUIT.
    expect(await remote.hear('\r\n.\r\n')).toBe('Subject: x\r\n\r\n..\r\nQUIT');
    remote.say('250 2.0.0 Kept');
  });
  expect(kinds(result)).toEqual(['never 550', 'taken 250']);
});

describe('STARTTLS', () => {
  it('replies that are pushed in before TLS are not taken for replies under TLS (RFC 3207 §6)', async () => {
    const client = await behaves(async (remote) => {
      await remote.until('STARTTLS', ['STARTTLS']);
      remote.say('220 go on\r\n250-mx.far.example\r\n250 AUTH PLAIN\r\n250 taken\r\n250 taken\r\n354 go on\r\n250 2.0.0 All taken');
      const under = await remote.secured();
      await under.hear();
      under.say('250 mx.far.example');
      await under.hear();
      under.say('550 5.7.1 Not you');
    });
    const result = await client.send(HOST, envelope('a@far.example'));
    client.close();
    expect(kinds(result)).toEqual(['never 550']);
    expect(result).toMatchObject({ tls: 'TLSv1.3' });
  });

  it('offered and then refused: goes on in clear where that may be, and not where TLS is required', async () => {
    const refusing = async (remote: Remote): Promise<void> => {
      await remote.until('STARTTLS', ['STARTTLS']);
      remote.say('454 4.7.0 Not now');
      for (let line = await remote.hear(); line !== ''; line = await remote.hear('\r\n')) {
        if (line === 'DATA') {
          remote.say('354 go on');
          await remote.hear('\r\n.\r\n');
        }
        remote.say('250 well');
      }
    };
    expect(kinds(await attempt(refusing))).toEqual(['taken 250', 'taken 250']);
    expect(kinds(await attempt(refusing, { tls: 'required' }))).toMatch(/454 4\.7\.0 Not now|TLS/);
    expect(kinds(await attempt((remote) => remote.until('MAIL'), { tls: 'required' }))).toMatch(/TLS/);
  });

  it('a certificate that names nobody we know carries no password', async () => {
    const heard: string[] = [];
    const result = await attempt(
      async (remote) => {
        await remote.until('STARTTLS', ['STARTTLS', 'AUTH PLAIN']);
        remote.say('220 go on');
        heard.push(await (await remote.secured()).hear());
      },
      { tls: 'required', verify: true, credentials: { user: 'house', password: 'a long relay password' } },
    );
    expect(kinds(result)).toMatch(/certificate/);
    expect(heard.join('')).toBe('');
  });
});

it('a connection that was kept and is gone meanwhile costs the next message nothing', async () => {
  let connections = 0;
  const gone: Promise<void>[] = [];
  const client = await behaves(async (remote) => {
    connections += 1;
    gone.push(new Promise((resolve) => remote.socket.once('close', () => resolve())));
    await remote.until('DATA');
    remote.say('354 go on');
    await remote.hear('\r\n.\r\n');
    remote.say('250 2.0.0 Kept');
    remote.socket.end();
  });
  expect(kinds(await client.send(HOST, envelope('a@far.example')))).toEqual(['taken 250']);
  await gone[0];
  expect(kinds(await client.send(HOST, envelope('b@far.example')))).toEqual(['taken 250']);
  expect(connections).toBe(2);
  client.close();
});

describe('TLS that breaks', () => {
  /** Offers TLS and answers its first words with something else; in clear it takes everything. Counts the texts that it took. */
  const broken = (taken: string[]) => async (remote: Remote) => {
    remote.say('220 mx.far.example');
    for (let line = await remote.hear(); line !== ''; line = await remote.hear()) {
      if (line.startsWith('EHLO')) remote.say('250-mx.far.example\r\n250 STARTTLS');
      else if (line === 'STARTTLS') {
        remote.socket.once('data', () => remote.say('this is no TLS'));
        remote.say('220 go on');
        return;
      } else if (line === 'DATA') {
        remote.say('354 go on');
        taken.push(await remote.hear('\r\n.\r\n'));
        remote.say('250 2.0.0 Kept');
      } else remote.say('250 well');
    }
  };

  it('gets the message once more in clear, and the journey says so', async () => {
    const taken: string[] = [];
    const result = await attempt(broken(taken));
    expect(kinds(result)).toEqual(['taken 250', 'taken 250']);
    expect(result).toMatchObject({ kind: 'done', tls: null, note: expect.stringMatching(/^TLS broke, sent in clear: /) });
    expect(taken).toHaveLength(1);
  });

  it.each(['required', 'implicit'] as const)('gets nothing in clear where TLS is %s', async (tls) => {
    const taken: string[] = [];
    expect((await attempt(broken(taken), { tls })).kind).toBe('unreachable');
    expect(taken).toEqual([]);
  });
});
