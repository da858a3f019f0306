import { createServer as createHttpServer, type Server as HttpServer, type RequestListener } from 'node:http';
import { createServer as createHttpsServer, type Server as HttpsServer } from 'node:https';
import type { Socket } from 'node:net';
import type { ServedCertificates } from './certificate.ts';
import { WebConnections } from './web-connections.ts';

/** Console pages need some at once each; programs few. */
const MOST_PER_ADDRESS = 100;
const HEADERS_MS = 15_000;
const REQUEST_MS = 60_000;
const KEPT_ALIVE_MS = 15_000;
/** Without an octet in either direction. Streams have a comment every twenty seconds. */
const SILENT_MS = 90_000;

/** The HTTP server: nobody holds many of its connections, or one for long without using it. */
export function openWebServer(
  makeHandler: (connections: WebConnections) => RequestListener,
  { certificates, mostOpen, onFault }: { certificates: ServedCertificates | null; mostOpen: number; onFault: (error: unknown) => void },
): HttpServer | HttpsServer {
  const times = { headersTimeout: HEADERS_MS, requestTimeout: REQUEST_MS, keepAliveTimeout: KEPT_ALIVE_MS };
  const connections = new WebConnections(mostOpen, Math.min(MOST_PER_ADDRESS, Math.max(1, Math.ceil(mostOpen / 2))));
  const handler = connections.inOrder(makeHandler(connections));
  const server = certificates ? openHttps(certificates, times, handler) : createHttpServer(times, handler);
  // Some more than there are places: whoever comes may take the place of another.
  server.maxConnections = mostOpen + Math.max(8, Math.ceil(mostOpen / 10));
  server.timeout = SILENT_MS;
  server.on('connection', (socket: Socket) => connections.add(socket));
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
