import type { AccessListener } from '../core/mailbox/access-port.ts';
import type { Connection } from '../net/listener.ts';
import { type AccessParts, type ImapSettings, type OpenImap, serveImap } from './imap-server.ts';

/** All conversations of one process with mail programs, and what the service tells it about them. */
export class AccessHouse implements AccessListener {
  private readonly open = new Set<OpenImap>();

  constructor(private readonly parts: AccessParts) {}

  get size(): number {
    return this.open.size;
  }

  serveImap(connection: Connection, settings: ImapSettings): OpenImap {
    const conversation = serveImap(connection, settings, this.parts);
    this.open.add(conversation);
    connection.socket.on('close', () => this.open.delete(conversation));
    return conversation;
  }

  /** Who has one of these folders open hears of it. */
  changed(folders: readonly number[]): void {
    const changed = new Set(folders);
    for (const one of this.open) if (one.folder !== null && changed.has(one.folder)) one.changed();
  }

  end(session: number): void {
    for (const one of this.open) if (one.session === session) one.stop('What you signed in with was changed; sign in again');
  }

  stop(): void {
    for (const one of this.open) one.stop('The server is stopping; try again soon');
  }
}
