import { createServer, type Server, type Socket } from 'node:net';
import { TLSSocket } from 'node:tls';
import { plainAddress, whoseAddress } from '../core/address/ip-address.ts';
import type { ServerTls } from './certificate.ts';
import { readProxyHeader } from './proxy-protocol.ts';

/** A port that can't be had: one sentence for the operator. */
export class ListenError extends Error {}

export interface ListenerSettings {
  address: string;
  port: number;
  /** Whether connections begin with a PROXY protocol header. */
  proxy: boolean;
  /** Whether TLS begins at once. */
  implicitTls: boolean;
  /** Asked at each connection: it may have been renewed. */
  tls: ServerTls;
  /** Connections above this, from one address (of IPv6: from its 64 bits), are told to come back later; asked at each connection. */
  mostPerAddress: () => number;
  /** Connections above this are told to come back later; some more than that are not heard at all. */
  mostOpen?: number;
}

export interface Connection {
  socket: Socket | TLSSocket;
  clientAddress: string;
  secure: boolean;
  /** False when there are too many connections already, of this address or of all. */
  welcome: boolean;
}

const HEADER_TIME_MS = 10_000;
/** Where nothing else is said. */
const MOST_OPEN = 4000;
/** Of a port's connections, so many more are told that there is no room. */
const TOLD_SHARE = 0.05;

/** Accepts connections, learns who the client is, begins TLS where the port says so, and hands each over. */
export class Listener {
  private readonly server: Server;
  private readonly perAddress = new Map<string, number>();
  private readonly sockets = new Set<Socket>();
  private readonly mostOpen: number;

  constructor(
    private readonly settings: ListenerSettings,
    private readonly onConnection: (connection: Connection) => void,
    private readonly onFault: (clientAddress: string, reason: string) => void,
  ) {
    // A client that has closed its sending half still gets its replies.
    this.server = createServer({ noDelay: true, allowHalfOpen: true }, (socket) => this.take(socket));
    this.mostOpen = settings.mostOpen ?? MOST_OPEN;
    this.server.maxConnections = Math.ceil(this.mostOpen * (1 + TOLD_SHARE));
  }

  /** Resolves with the port in use (of interest when 0 was asked for). */
  listen(): Promise<number> {
    const { address, port } = this.settings;
    return new Promise((resolve, reject) => {
      this.server.once('error', (error: NodeJS.ErrnoException) => {
        const reason =
          error.code === 'EADDRINUSE'
            ? 'another program uses that port'
            : error.code === 'EACCES'
              ? 'this user may not open that port'
              : error.code === 'EADDRNOTAVAIL'
                ? 'this machine does not have that address'
                : error.message;
        reject(new ListenError(`Can’t listen on ${address} port ${port}: ${reason}.`));
      });
      this.server.listen(port, address, () => {
        this.server.removeAllListeners('error');
        // What goes wrong with a listening port later (no descriptor left, say) concerns the connection that was coming.
        this.server.on('error', (error) => this.onFault('', String(error)));
        resolve((this.server.address() as { port: number }).port);
      });
    });
  }

  /** No new connections; those that exist go on. */
  stopAccepting(): void {
    this.server.close();
  }

  destroyAll(): void {
    for (const socket of this.sockets) socket.destroy();
  }

  private take(socket: Socket): void {
    this.sockets.add(socket);
    socket.on('close', () => this.sockets.delete(socket));
    socket.on('error', () => socket.destroy());
    const peer = plainAddress(socket.remoteAddress ?? '');
    if (!this.settings.proxy) return this.identified(socket, peer);
    const timer = setTimeout(() => this.fault(socket, peer, 'no PROXY header came'), HEADER_TIME_MS);
    let header: Buffer = Buffer.alloc(0);
    const onData = (bytes: Buffer): void => {
      header = Buffer.concat([header, bytes]);
      const read = readProxyHeader(header);
      if (read.kind === 'more') return;
      clearTimeout(timer);
      socket.off('data', onData);
      socket.pause();
      if (read.kind === 'invalid') return this.fault(socket, peer, 'the PROXY header is invalid');
      if (header.length > read.length) socket.unshift(header.subarray(read.length));
      this.identified(socket, plainAddress(read.source?.address ?? peer));
    };
    socket.on('data', onData);
    socket.once('end', () => {
      if (header.length === 0 || readProxyHeader(header).kind === 'more') socket.destroy();
    });
    socket.on('close', () => clearTimeout(timer));
  }

  private fault(socket: Socket, client: string, reason: string): void {
    this.onFault(client, reason);
    socket.destroy();
  }

  private identified(socket: Socket, clientAddress: string): void {
    const whose = whoseAddress(clientAddress);
    const count = (this.perAddress.get(whose) ?? 0) + 1;
    this.perAddress.set(whose, count);
    socket.on('close', () => {
      const left = (this.perAddress.get(whose) ?? 1) - 1;
      if (left > 0) this.perAddress.set(whose, left);
      else this.perAddress.delete(whose);
    });
    const welcome = count <= this.settings.mostPerAddress() && this.sockets.size <= this.mostOpen;
    if (!this.settings.implicitTls) return this.onConnection({ socket, clientAddress, secure: false, welcome });
    const secured = upgradeToTls(socket, this.settings.tls, (reason) => this.fault(socket, clientAddress, reason));
    secured.once('secure', () => this.onConnection({ socket: secured, clientAddress, secure: true, welcome }));
  }
}

/** Begins TLS as the server on an open connection. */
export function upgradeToTls(socket: Socket, tls: ServerTls, onFailure: (reason: string) => void): TLSSocket {
  const secured = new TLSSocket(socket, {
    isServer: true,
    secureContext: tls.secureContext,
    SNICallback: (name, done) => done(null, tls.contextFor?.(name)),
  });
  const timer = setTimeout(() => onFailure('TLS did not begin in time'), HEADER_TIME_MS);
  let done = false;
  secured.once('secure', () => {
    done = true;
    clearTimeout(timer);
  });
  secured.on('error', (error) => {
    clearTimeout(timer);
    if (!done) onFailure(`TLS failed: ${error.message}`);
    secured.destroy();
  });
  secured.once('close', () => clearTimeout(timer));
  return secured;
}
