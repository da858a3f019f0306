import { connect as connectPlain, type Socket } from 'node:net';
import { checkServerIdentity, connect as connectTls, rootCertificates, type TLSSocket } from 'node:tls';
import type { ImapTransport } from 'imapflow';
import type { ImapOrder } from '../core/transfer/order.ts';

/** Why it broke off, whether that passes by itself, and how long the server asks to be left alone. */
/** RFC 5530 §3: what is over soon. */
const PASSING = new Set(['UNAVAILABLE', 'INUSE', 'LIMIT', 'SERVERBUG', 'OVERQUOTA', 'THROTTLED']);

export function whyNot(error: unknown): { words: string; isPassing: boolean; waitMs: number } {
  const { message, code, authenticationFailed, serverResponseCode, responseText, throttleReset } = error as {
    message?: string;
    code?: string;
    authenticationFailed?: boolean;
    serverResponseCode?: string;
    responseText?: string;
    throttleReset?: number;
  };
  const isPassingCode = PASSING.has(serverResponseCode ?? '');
  const said = inOneLine(responseText ?? message ?? String(error));
  if (authenticationFailed === true && !isPassingCode)
    return { words: `The server refuses the sign-in: ${said}.`, isPassing: false, waitMs: 0 };
  if (code === 'CERTIFICATE') return { words: said, isPassing: false, waitMs: 0 };
  if (/CERT|ALTNAME|SIGNATURE|ISSUER|CHAIN|CRL/.test(code ?? ''))
    return {
      words: `Its certificate is not trusted: ${code === 'ERR_TLS_CERT_ALTNAME_INVALID' ? 'it is for another name' : said}. If it is the right server, name the SHA-256 of its certificate.`,
      isPassing: false,
      waitMs: 0,
    };
  return { words: `The server broke off: ${said}.`, isPassing: true, waitMs: throttleReset ?? 0 };
}

/** What the server says when it refuses one thing, and the conversation goes on (RFC 3501 §7.1.2); null for all else, and for what is over soon. */
export function refusalOf(error: unknown): string | null {
  const { responseStatus, responseText, serverResponseCode } = error as {
    responseStatus?: string;
    responseText?: string;
    serverResponseCode?: string;
  };
  if (responseStatus !== 'NO' || PASSING.has(serverResponseCode ?? '')) return null;
  return `The server refuses it: ${inOneLine(responseText ?? 'it does not say why')}.`;
}

const inOneLine = (said: string): string => said.replace(/[\p{Cc}\s]+/gu, ' ').slice(0, 200);

/** Connects where the server is found, by whatever name, and looks at its certificate before anything is said. */
export function transportTo(
  order: ImapOrder,
  { at, roots }: { at: { address: string; port: number }; roots: string | null },
): ImapTransport {
  const secured = (over: { socket: Socket } | { host: string; port: number }, onSecure: () => void): TLSSocket => {
    const socket = connectTls({
      ...over,
      ...(/^[\d.]+$|:/.test(order.host) ? {} : { servername: order.host }),
      ...(roots === null ? {} : { ca: [...rootCertificates, roots] }),
      rejectUnauthorized: order.fingerprint === null,
      checkServerIdentity: (_name, certificate) => checkServerIdentity(order.host, certificate),
    });
    socket.once('secureConnect', () => {
      const shown = socket.getPeerCertificate().fingerprint256?.replaceAll(':', '').toLowerCase();
      if (order.fingerprint === null || shown === order.fingerprint) onSecure();
      else
        socket.destroy(
          Object.assign(new Error(`The server shows another certificate than the one that was named: its SHA-256 is ${shown}.`), {
            code: 'CERTIFICATE',
          }),
        );
    });
    return socket;
  };
  const place = { host: at.address, port: at.port };
  return {
    connect: ({ secure }, onConnect) => (secure ? secured(place, onConnect) : connectPlain(place, onConnect)),
    upgrade: (socket, _options, onSecure) => secured({ socket: socket as Socket }, onSecure),
  };
}
