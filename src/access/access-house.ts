import type { Followed } from '../core/followed.ts';
import type { AccessListener, AccessService, ArrivedText } from '../core/mailbox/access-port.ts';
import { readMessage } from '../core/trial/reading.ts';
import type { ServerTls } from '../net/certificate.ts';
import { type Connection, Listener } from '../net/listener.ts';
import { TextLost } from '../store/message-files.ts';
import { SearchWriter } from '../store/search-writer.ts';
import { FolderIndexer } from './folder-indexer.ts';
import { serveImap } from './imap-server.ts';
import type { AccessParts, OpenConversation } from './open-conversation.ts';
import { OutlineMaker } from './outline-maker.ts';
import { servePop3 } from './pop3-server.ts';

/** The ports that mail programs read mail on. */
const ACCESS_PORTS = { pop3: 'POP3', pop3s: 'POP3', imap: 'IMAP', imaps: 'IMAP' } as const satisfies Record<string, AccessService>;
export type AccessPortName = keyof typeof ACCESS_PORTS;
export const isAccessPort = (service: string): service is AccessPortName => service in ACCESS_PORTS;

/** Octets of messages that come in by IMAP, over all conversations of a process. */
export const MOST_LITERALS = 160 * 1024 * 1024;
/** Octets that reading large texts whole may take in a process; a heavier one goes alone. */
export const MOST_LARGE_TEXTS = 96 * 1024 * 1024;

export interface AccessSettings {
  /** The data directory. */
  data: string;
  hostName: string;
  version: string;
  maxMessageBytes: number;
  /** Asked at each connection: it may have been renewed. */
  tls: ServerTls;
  followed: Followed;
  log: { info(data: object, text: string): void };
  now: () => number;
  /** How many conversations are open on a port now. */
  onCount: (port: AccessPortName, open: number) => void;
}

export interface AccessPortSettings {
  service: AccessPortName;
  address: string;
  port: number;
  proxy: boolean;
  mostPerAddress: number;
  mostOpen: number;
}

/** Serves mail programs in one process: their ports and conversations, and what the service tells about them. */
export class AccessHouse implements AccessListener {
  private readonly open = new Set<OpenConversation>();
  /** Who has which folder open: most conversations need not be asked. */
  private readonly looking = new Map<number, Set<OpenConversation>>();
  private readonly counts = new Map<AccessPortName, number>();
  private readonly listeners: Listener[] = [];
  private readonly outlines: OutlineMaker;
  private readonly indexer: FolderIndexer;
  private isStopping = false;
  /** Connections that one address may have open on each port. */
  private perAddress = 0;
  /** It is in the process that it serves. */
  readonly processes = [];

  constructor(
    private readonly settings: AccessSettings,
    private readonly parts: AccessParts,
  ) {
    this.outlines = new OutlineMaker(parts);
    this.indexer = new FolderIndexer(parts, parts.index, new SearchWriter(settings.data));
  }

  /** Opens a port; resolves with its number. Throws ListenError. */
  listen({ service, address, port, proxy, mostPerAddress, mostOpen }: AccessPortSettings): Promise<number> {
    const { settings, parts } = this;
    this.perAddress = mostPerAddress;
    const listener = new Listener(
      {
        address,
        port,
        proxy,
        implicitTls: service.endsWith('s'),
        tls: settings.tls,
        mostPerAddress: () => this.perAddress,
        mostOpen,
      },
      (connection) => this.take(service, connection),
      (clientAddress, reason) => {
        settings.log.info({ client: clientAddress, service, reason }, 'connection dropped');
        parts.port.tlsFailed(ACCESS_PORTS[service], clientAddress, reason);
      },
    );
    this.listeners.push(listener);
    return listener.listen();
  }

  /** Who has one of these folders open hears of it. */
  changed(folders: readonly number[]): void {
    for (const folder of folders) for (const one of this.looking.get(folder) ?? []) one.changed();
  }

  arrived(texts: readonly ArrivedText[]): void {
    this.outlines.add(texts);
  }

  /** Reads a message that is to be scored. */
  read(call: number, { file, size }: ArrivedText, at: number): void {
    const { port, texts, onFault } = this.parts;
    texts
      .slice(file, size, 0, size)
      .then((text) => readMessage(text, at))
      .catch((error: unknown) => {
        if (!(error instanceof TextLost)) onFault('IMAP', '', error);
        return null;
      })
      .then((reading) => port.wasRead(call, reading))
      .catch((error: unknown) => onFault('IMAP', '', error));
  }

  index(folders: readonly number[] | 'all'): void {
    if (!this.isStopping) this.indexer.add(folders);
  }

  end(session: number): void {
    for (const one of this.open) if (one.session === session) one.stop('What you signed in with was changed; sign in again');
  }

  /** They are asked for at each connection. */
  certificatesChanged(): void {}

  connectionsChanged(perAddress: number): void {
    this.perAddress = perAddress;
  }

  /** No new connections; conversations are told to end. */
  stopAccepting(): void {
    this.isStopping = true;
    this.outlines.stop();
    this.indexer.halt();
    for (const one of this.listeners) one.stopAccepting();
    for (const one of this.open) one.stop('The server is stopping; try again soon');
  }

  /** When the last conversation has ended, and what it has open is let go. */
  async quiet(): Promise<void> {
    while (this.open.size > 0) await new Promise((resolve) => setTimeout(resolve, 20));
    await this.indexer.quiet();
    this.indexer.stop();
  }

  destroyAll(): void {
    this.indexer.stop();
    for (const one of this.listeners) one.destroyAll();
  }

  private take(service: AccessPortName, connection: Connection): void {
    let open: number | null = null;
    const conversation = this.converse(service, connection, (folder) => {
      this.look(conversation, open, folder);
      open = folder;
    });
    this.open.add(conversation);
    this.count(service, 1);
    connection.socket.on('close', () => {
      this.open.delete(conversation);
      this.look(conversation, open, null);
      open = null;
      this.count(service, -1);
    });
    if (this.isStopping) conversation.stop('The server is stopping; try again soon');
  }

  /** A conversation has another folder open than before, or none. */
  private look(conversation: OpenConversation, before: number | null, now: number | null): void {
    if (before !== null) {
      const others = this.looking.get(before);
      others?.delete(conversation);
      if (others?.size === 0) this.looking.delete(before);
    }
    if (now === null || !this.open.has(conversation)) return;
    const all = this.looking.get(now) ?? new Set();
    all.add(conversation);
    this.looking.set(now, all);
  }

  private converse(service: AccessPortName, connection: Connection, onFolder: (folder: number | null) => void): OpenConversation {
    const { hostName, version, maxMessageBytes, followed, log, now } = this.settings;
    const { tls } = this.settings;
    const spoken = ACCESS_PORTS[service];
    const overhear = followed.begin(spoken === 'POP3' ? 'pop3' : 'imap', [connection.clientAddress], log);
    return spoken === 'POP3'
      ? servePop3(connection, { hostName, tls, overhear, outlineLater: (texts) => this.outlines.add(texts) }, this.parts)
      : serveImap(connection, { hostName, version, maxMessageBytes, tls, overhear, now, onFolder }, this.parts);
  }

  private count(service: AccessPortName, by: number): void {
    const open = (this.counts.get(service) ?? 0) + by;
    this.counts.set(service, open);
    this.settings.onCount(service, open);
  }
}
