import type { IncomingMessage } from 'node:http';
import { request as requestHttp } from 'node:http';
import { request as requestHttps } from 'node:https';
import { Readable } from 'node:stream';
import { connect, type TLSSocket } from 'node:tls';

export interface Place {
  url: string;
  /** SHA-256 of the certificate that the service must show, as `AB:CD:…`; where it is set, nobody else vouches for it. */
  fingerprint?: string | undefined;
}

export interface Sending {
  method?: string;
  headers: Record<string, string>;
  body?: string;
}

/** The service showed another certificate than the one that was kept. */
export class OtherCertificate extends Error {
  constructor(readonly shown: string) {
    super('another certificate');
  }
}

/** Faults of a certificate that nobody known has signed for this name: then its fingerprint decides. */
const UNVOUCHED = new Set([
  'DEPTH_ZERO_SELF_SIGNED_CERT',
  'SELF_SIGNED_CERT_IN_CHAIN',
  'UNABLE_TO_VERIFY_LEAF_SIGNATURE',
  'UNABLE_TO_GET_ISSUER_CERT_LOCALLY',
  'ERR_TLS_CERT_ALTNAME_INVALID',
  'CERT_HAS_EXPIRED',
]);
export const isUnvouched = (error: unknown): boolean => UNVOUCHED.has((error as NodeJS.ErrnoException).code ?? '');

/** One HTTP exchange with the service. Its certificate is held to the kept fingerprint before the first octet of ours is sent. */
export function exchange({ url, fingerprint }: Place, path: string, { method = 'GET', headers, body }: Sending): Promise<Response> {
  const target = new URL(path, url);
  const octets = body === undefined ? {} : { 'content-length': String(Buffer.byteLength(body)) };
  return new Promise((resolve, reject) => {
    const heard = (message: IncomingMessage): void => {
      const pairs = Object.entries(message.headersDistinct).flatMap(([name, values]) =>
        (values ?? []).map((value): [string, string] => [name, value]),
      );
      resolve(new Response(Readable.toWeb(message) as ReadableStream, { status: message.statusCode ?? 500, headers: pairs }));
    };
    const options = { method, headers: { ...headers, ...octets }, agent: false as const };
    if (target.protocol !== 'https:') {
      const request = requestHttp(target, options, heard);
      request.on('error', reject);
      request.end(body);
      return;
    }
    const request = requestHttps(target, { ...options, rejectUnauthorized: fingerprint === undefined }, heard);
    request.on('error', reject);
    if (fingerprint === undefined) {
      request.end(body);
      return;
    }
    request.on('socket', (socket) =>
      (socket as TLSSocket).once('secureConnect', () => {
        const shown = (socket as TLSSocket).getPeerCertificate().fingerprint256;
        if (shown === fingerprint) request.end(body);
        else request.destroy(new OtherCertificate(shown));
      }),
    );
  });
}

/** The fingerprint of the certificate that is shown at an address; nothing is sent there. */
export function shownFingerprint(url: string): Promise<string> {
  const { hostname, port } = new URL(url);
  const host = hostname.replace(/^\[|\]$/g, '');
  return new Promise((resolve, reject) => {
    const socket = connect({ host, port: Number(port || 443), rejectUnauthorized: false }, () => {
      resolve(socket.getPeerCertificate().fingerprint256);
      socket.destroy();
    });
    socket.on('error', reject);
  });
}
