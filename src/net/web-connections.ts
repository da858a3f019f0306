import type { IncomingMessage, RequestListener, ServerResponse } from 'node:http';
import type { Socket } from 'node:net';
import { whoseAddress } from '../core/address/ip-address.ts';

/** Requests of one connection that wait for the answer to an earlier one (RFC 9112 §9.3.2); browsers and programs have none. */
const MOST_PIPELINED = 8;
/** Octets of answers that clients have not taken yet, over all connections. */
const MOST_IN_FLIGHT = 32 * 1024 * 1024;

interface WebConnection {
  socket: Socket;
  /** The address, or the 64 bits of an IPv6 address, whose share it takes. */
  whose: string;
  /** Whether somebody has signed in over it. */
  isKnown: boolean;
  /** Requests whose answers have not gone out whole. */
  waiting: (() => void)[];
  isBusy: boolean;
  /** Where answers are written: the TLS socket, where there is one. */
  answersTo: Socket | null;
}

/** The two sockets of a TLS connection have the same other end. */
const keyOf = (socket: Socket): string => `${socket.remoteAddress} ${socket.remotePort}`;

/**
 * The connections of a web server, shared out fairly: when all places are taken, the address that holds most gives one up, those over which
 * nobody has signed in first. Each connection gets one answer at a time, as fast as its client reads.
 */
export class WebConnections {
  private readonly open = new Map<string, WebConnection>();

  constructor(
    private readonly mostOpen: number,
    private readonly mostPerAddress: number,
  ) {}

  /** Takes a new connection, or closes it, or another one in its place. */
  add(socket: Socket): void {
    const key = keyOf(socket);
    const whose = whoseAddress(socket.remoteAddress ?? '');
    socket.on('error', () => socket.destroy());
    if (this.countOf(whose) >= this.mostPerAddress) {
      socket.destroy();
      return;
    }
    const connection: WebConnection = { socket, whose, isKnown: false, waiting: [], isBusy: false, answersTo: null };
    this.open.set(key, connection);
    socket.once('close', () => {
      if (this.open.get(key) === connection) this.open.delete(key);
    });
    if (this.open.size > this.mostOpen) this.drop(this.leastWanted());
  }

  /** Somebody has signed in over this connection: it is the last to be given up. */
  know(socket: Socket): void {
    const found = this.open.get(keyOf(socket));
    if (found) found.isKnown = true;
  }

  /** A listener that begins with a request when the answer to the one before has gone out. */
  inOrder(handler: RequestListener): RequestListener {
    return (request: IncomingMessage, response: ServerResponse) => {
      const connection = this.open.get(keyOf(request.socket));
      if (!connection || connection.waiting.length >= MOST_PIPELINED) {
        request.socket.destroy();
        if (connection) this.drop(connection);
        return;
      }
      connection.answersTo = request.socket;
      connection.waiting.push(() => {
        response.once('close', () => {
          connection.isBusy = false;
          this.next(connection);
        });
        handler(request, response);
      });
      this.next(connection);
    };
  }

  private next(connection: WebConnection): void {
    if (connection.isBusy || connection.socket.destroyed) return;
    const begin = connection.waiting.shift();
    if (!begin) return;
    this.makeRoom();
    connection.isBusy = true;
    begin();
  }

  /** Clients that don't take their answers lose them when those of all become too much; the one with most of them first. */
  private makeRoom(): void {
    const held = (one: WebConnection): number => one.answersTo?.writableLength ?? 0;
    let all = 0;
    for (const one of this.open.values()) all += held(one);
    while (all > MOST_IN_FLIGHT) {
      const most = [...this.open.values()].reduce((found, one) => (held(one) > held(found) ? one : found));
      all -= held(most);
      this.drop(most);
    }
  }

  private countOf(whose: string): number {
    let count = 0;
    for (const one of this.open.values()) if (one.whose === whose) count += 1;
    return count;
  }

  private leastWanted(): WebConnection {
    const all = [...this.open.values()];
    const strangers = all.filter((one) => !one.isKnown);
    const among = strangers.length > 0 ? strangers : all;
    const counts = new Map<string, number>();
    for (const { whose } of all) counts.set(whose, (counts.get(whose) ?? 0) + 1);
    const most = Math.max(...among.map((one) => counts.get(one.whose) ?? 0));
    // The oldest come first.
    const theirs = among.filter((one) => counts.get(one.whose) === most);
    return theirs.find((one) => !one.isBusy) ?? (theirs[0] as WebConnection);
  }

  private drop(connection: WebConnection): void {
    for (const [key, one] of this.open) if (one === connection) this.open.delete(key);
    connection.waiting = [];
    connection.answersTo?.destroy();
    connection.socket.destroy();
  }
}
