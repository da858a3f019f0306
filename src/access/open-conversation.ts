import type { OwnersGate } from '../core/gate.ts';
import type { AccessPort, AccessService } from '../core/mailbox/access-port.ts';
import type { OctetBudget } from '../core/smtp/octet-budget.ts';
import type { Readable } from '../store/read-database.ts';
import type { SearchIndex } from '../store/search-index.ts';
import type { TextReader } from '../store/text-reader.ts';

/** What conversations with mail programs need. */
export interface AccessParts {
  db: Readable;
  texts: TextReader;
  /** What is indexed of folders. */
  index: SearchIndex;
  port: AccessPort;
  /** Octets of messages that are coming in, over all conversations of the process. */
  literals: OctetBudget;
  /** Large texts that are read whole, of all conversations of the process. */
  largeTexts: OwnersGate;
  onFault: (service: AccessService, clientAddress: string, error: unknown) => void;
}

/** A conversation that is open, as its house knows it. */
export interface OpenConversation {
  /** The session that the service knows, once somebody has signed in. */
  readonly session: number | null;
  /** Something in that folder has changed. */
  changed(): void;
  stop(text: string): void;
}
