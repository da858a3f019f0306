import { connect as connectPlain, type Socket } from 'node:net';
import { connect, type DetailedPeerCertificate, type TLSSocket } from 'node:tls';
import type { Probed, ProbeServer } from '../service/certificates/doors.ts';
import { proxyHeader } from './proxy-protocol.ts';

const WAIT_MS = 5000;
const MOST_LINE = 2000;

/** What is said before TLS begins, and what has to come before each word of it (RFC 3207, RFC 3501 §6.2.1, RFC 2595 §4). */
const SCRIPTS: Record<string, { expect: RegExp; say: string }[]> = {
  smtp: [
    { expect: /^220[ -].*\r\n/, say: 'EHLO probe.invalid\r\n' },
    { expect: /^250 .*\r\n/m, say: 'STARTTLS\r\n' },
    { expect: /^220 .*\r\n/, say: '' },
  ],
  imap: [
    { expect: /^\* OK .*\r\n/, say: 'p STARTTLS\r\n' },
    { expect: /^p OK .*\r\n/m, say: '' },
  ],
  pop3: [
    { expect: /^\+OK.*\r\n/, say: 'STLS\r\n' },
    { expect: /^\+OK.*\r\n/, say: '' },
  ],
};
const scriptOf = (service: string): (typeof SCRIPTS)[string] => SCRIPTS[service === 'submission' ? 'smtp' : service] ?? [];

/** Looks at what a listener shows to who asks for a name: connects as a client would. */
export const probeServer: ProbeServer = async ({ service, address, port, proxy }, name) => {
  // What listens on all addresses is reached by that of the machine itself.
  const plain = connectPlain({ port, host: address === '0.0.0.0' ? '127.0.0.1' : address === '::' ? '::1' : address });
  plain.setTimeout(WAIT_MS, () => plain.destroy(new Error('no answer came in time')));
  try {
    await event(plain, 'connect');
    if (proxy) plain.write(proxyHeader('127.0.0.1', '127.0.0.1', port));
    for (const { expect, say } of scriptOf(service)) {
      await heard(plain, expect);
      if (say !== '') plain.write(say);
    }
    // The chain is looked at by us, whatever it is.
    const secured = connect({ socket: plain, servername: name.replace(/^\*\./, 'any.'), rejectUnauthorized: false });
    await event(secured, 'secureConnect');
    const pem = chainOf(secured);
    secured.destroy();
    return { kind: 'shown', pem };
  } catch (error) {
    return { kind: 'failed', reason: (error as Error).message } satisfies Probed;
  } finally {
    plain.destroy();
  }
};

function event(socket: Socket, name: string): Promise<void> {
  return new Promise((resolve, reject) => {
    socket.once(name, () => resolve());
    socket.once('error', reject);
    socket.once('close', () => reject(new Error('the connection was closed')));
  });
}

function heard(socket: Socket, expected: RegExp): Promise<void> {
  return new Promise((resolve, reject) => {
    let text = '';
    const onData = (bytes: Buffer): void => {
      text += bytes.toString('latin1');
      if (!expected.test(text) && text.length < MOST_LINE) return;
      socket.off('data', onData);
      socket.pause();
      if (expected.test(text)) resolve();
      else reject(new Error(`it said ${JSON.stringify(text.slice(0, 80))}`));
    };
    socket.on('data', onData);
    socket.once('error', reject);
    socket.once('close', () => reject(new Error('the connection was closed')));
    socket.resume();
  });
}

/** What was shown, as PEM. */
export function chainOf(socket: TLSSocket): string {
  const all: string[] = [];
  const seen = new Set<string>();
  for (
    let one: DetailedPeerCertificate | undefined = socket.getPeerCertificate(true);
    one?.raw && !seen.has(one.fingerprint256);
    one = one.issuerCertificate
  ) {
    seen.add(one.fingerprint256);
    const lines = one.raw.toString('base64').match(/.{1,64}/g) ?? [];
    all.push(`-----BEGIN CERTIFICATE-----\n${lines.join('\n')}\n-----END CERTIFICATE-----`);
  }
  return `${all.join('\n')}\n`;
}
