import { connect } from 'node:net';
import { proxyHeader } from './proxy-protocol.ts';

const TIMEOUT_MS = 4000;
const LONGEST = 1024;

/** The host name that an SMTP server greets with (RFC 5321 §4.2); null when nothing answers there, or something else than SMTP. */
export function readGreeting(server: { address: string; port: number; proxy: boolean }): Promise<string | null> {
  return new Promise((resolve) => {
    const socket = connect(server.port, server.address);
    let text = '';
    const finish = (name: string | null): void => {
      clearTimeout(timer);
      socket.on('error', () => {});
      socket.destroy();
      resolve(name);
    };
    const timer = setTimeout(() => finish(null), TIMEOUT_MS);
    socket.on('error', () => finish(null));
    socket.on('close', () => finish(null));
    socket.on('connect', () => {
      if (server.proxy) socket.write(proxyHeader('127.0.0.1', '127.0.0.1', 25));
    });
    socket.on('data', (bytes) => {
      text += bytes.toString('latin1');
      const found = /^220[ -](\S+)[^\r\n]*\r?\n/.exec(text);
      if (found) socket.write('QUIT\r\n');
      if (found || text.includes('\n') || text.length > LONGEST) finish(found?.[1]?.slice(0, 255) ?? null);
    });
  });
}
