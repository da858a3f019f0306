import { createServer as createHttpServer, type Server as HttpServer, type RequestListener } from 'node:http';
import { createServer as createHttpsServer, type Server as HttpsServer } from 'node:https';
import type { Socket } from 'node:net';
import { whoseAddress } from '../core/address/ip-address.ts';
import type { ServedCertificates } from './certificate.ts';

/** Console pages need some at once each; programs few. */
const MOST_PER_ADDRESS = 100;
const HEADERS_MS = 15_000;
const REQUEST_MS = 60_000;
const KEPT_ALIVE_MS = 15_000;
/** Without an octet in either direction. Streams have a comment every twenty seconds. */
const SILENT_MS = 90_000;

/** The HTTP server: nobody holds many of its connections, or one for long without using it. */
export function openWebServer(
  handler: RequestListener,
  { certificates, mostOpen, onFault }: { certificates: ServedCertificates | null; mostOpen: number; onFault: (error: unknown) => void },
): HttpServer | HttpsServer {
  const times = { headersTimeout: HEADERS_MS, requestTimeout: REQUEST_MS, keepAliveTimeout: KEPT_ALIVE_MS };
  const server = certificates ? openHttps(certificates, times, handler) : createHttpServer(times, handler);
  server.maxConnections = mostOpen;
  server.timeout = SILENT_MS;
  const perAddress = new Map<string, number>();
  server.on('connection', (socket: Socket) => {
    const whose = whoseAddress(socket.remoteAddress ?? '');
    const count = (perAddress.get(whose) ?? 0) + 1;
    perAddress.set(whose, count);
    socket.on('error', () => socket.destroy());
    socket.once('close', () => {
      const left = (perAddress.get(whose) ?? 1) - 1;
      if (left > 0) perAddress.set(whose, left);
      else perAddress.delete(whose);
    });
    if (count > MOST_PER_ADDRESS) socket.destroy();
  });
  server.on('clientError', (_error, socket) => socket.destroy());
  server.on('listening', () => server.on('error', onFault));
  return server;
}

function openHttps(certificates: ServedCertificates, times: object, handler: RequestListener): HttpsServer {
  const server = createHttpsServer(
    { ...certificates.pair, ...times, minVersion: 'TLSv1.2', SNICallback: (name, done) => done(null, certificates.contextFor(name)) },
    handler,
  );
  certificates.onChange(() => server.setSecureContext({ ...certificates.pair, minVersion: 'TLSv1.2' }));
  return server;
}
