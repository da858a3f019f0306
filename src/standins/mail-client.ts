import { connect, type Socket } from 'node:net';
import { connect as connectTls } from 'node:tls';
import { proxyHeader } from '../net/proxy-protocol.ts';

/** A small mail client that speaks line by line, for the demo: what it sends and hears can be shown. */
export class MailClient {
  private received = '';
  private waiting: ((line: string) => void)[] = [];
  private lines: string[] = [];

  private constructor(private readonly socket: Socket) {
    socket.on('data', (bytes) => {
      this.received += bytes.toString('utf8');
      for (let end = this.received.indexOf('\r\n'); end >= 0; end = this.received.indexOf('\r\n')) {
        const line = this.received.slice(0, end);
        this.received = this.received.slice(end + 2);
        const tell = this.waiting.shift();
        if (tell) tell(line);
        else this.lines.push(line);
      }
    });
    socket.on('error', () => {});
    socket.on('close', () => {
      for (const tell of this.waiting) tell('');
      this.waiting = [];
    });
  }

  /** Connects, claiming to come from `from`; with TLS at once when asked. */
  static async connect(target: { port: number; claim: { from: string; to: string; port: number }; tls: boolean }): Promise<MailClient> {
    const socket = connect(target.port, '127.0.0.1');
    await new Promise<void>((resolve, reject) => {
      socket.once('connect', resolve);
      socket.once('error', reject);
    });
    socket.write(proxyHeader(target.claim.from, target.claim.to, target.claim.port));
    if (!target.tls) return new MailClient(socket);
    const secured = connectTls({ socket, rejectUnauthorized: false });
    await new Promise<void>((resolve, reject) => {
      secured.once('secureConnect', resolve);
      secured.once('error', reject);
    });
    return new MailClient(secured);
  }

  /** Sends a line and returns the whole reply, its lines joined. */
  async say(line: string | null): Promise<string> {
    if (line !== null) this.socket.write(`${line}\r\n`);
    const lines: string[] = [];
    for (;;) {
      const next = await this.line();
      lines.push(next);
      if (!/^\d{3}-/.test(next)) return lines.join('\n');
    }
  }

  private line(): Promise<string> {
    const ready = this.lines.shift();
    if (ready !== undefined) return Promise.resolve(ready);
    return new Promise((resolve) => this.waiting.push(resolve));
  }

  end(): void {
    this.socket.end();
  }
}

export interface Letter {
  from: string;
  to: string[];
  subject: string;
  body: string;
}

/** A letter that is written out whole. */
export interface RawLetter {
  from: string;
  to: string[];
  raw: string;
}

export const letterText = ({ from, to, subject, body }: Letter, name = ''): string =>
  `From: ${name ? `${name} ` : ''}<${from}>\r\nTo: ${to.join(', ')}\r\nSubject: ${subject}\r\nMIME-Version: 1.0\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n${body}\r\n`;

/** Submits letters as a signed-in mailbox over one connection. Returns the reply that ended each: the acceptance, or the first refusal. */
export async function submit(
  port: number,
  clientAddress: string,
  host: { address: string },
  account: { user: string; password: string },
  letters: readonly Letter[],
): Promise<string[]> {
  const client = await MailClient.connect({ port, claim: { from: clientAddress, to: host.address, port: 465 }, tls: true });
  await client.say(null);
  await client.say('EHLO laptop.example');
  const signedIn = await client.say(`AUTH PLAIN ${Buffer.from(`\0${account.user}\0${account.password}`).toString('base64')}`);
  if (!signedIn.startsWith('235')) throw new Error(`${account.user} could not sign in: ${signedIn}`);
  const replies: string[] = [];
  for (const letter of letters) replies.push(await transact(client, letter));
  await client.say('QUIT');
  client.end();
  return replies;
}

/** Brings a letter as another server would. */
export async function bring(
  port: number,
  from: { address: string; helo: string },
  host: { address: string },
  letter: Letter | RawLetter,
): Promise<string> {
  const client = await MailClient.connect({ port, claim: { from: from.address, to: host.address, port: 25 }, tls: false });
  await client.say(null);
  await client.say(`EHLO ${from.helo}`);
  const reply = await transact(client, letter);
  await client.say('QUIT');
  client.end();
  return reply;
}

/** Asks a server to start sending what waits for a domain (RFC 1985); returns its reply. */
export async function askForQueue(
  port: number,
  from: { address: string; helo: string },
  host: { address: string },
  domain: string,
): Promise<string> {
  const client = await MailClient.connect({ port, claim: { from: from.address, to: host.address, port: 25 }, tls: false });
  await client.say(null);
  await client.say(`EHLO ${from.helo}`);
  const reply = await client.say(`ETRN ${domain}`);
  await client.say('QUIT');
  client.end();
  return reply;
}

async function transact(client: MailClient, letter: Letter | RawLetter): Promise<string> {
  const mail = await client.say(`MAIL FROM:<${letter.from}>`);
  if (!mail.startsWith('250')) return mail;
  let refusal = '';
  let taken = 0;
  for (const recipient of letter.to) {
    const answer = await client.say(`RCPT TO:<${recipient}>`);
    if (answer.startsWith('250')) taken += 1;
    else refusal = answer;
  }
  if (taken === 0) {
    await client.say('RSET');
    return refusal;
  }
  const go = await client.say('DATA');
  if (!go.startsWith('354')) return go;
  const text = 'raw' in letter ? letter.raw : letterText(letter);
  return client.say(`${text.replace(/(^|\r\n)\./g, '$1..')}.`);
}
