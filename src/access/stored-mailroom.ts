import { domainSide } from '../core/address/sides.ts';
import type { Mailroom, OutlinePart, QuotaRoot } from '../core/imap/mailroom.ts';
import type { Wanted } from '../core/mailbox/indexed.ts';
import type { LinePiece, LineRange } from '../core/mailbox/lines.ts';
import type { FolderMessage, MailboxOperation } from '../core/mailbox/operations.ts';
import { type Outline, outlineInTurns } from '../core/mime/outline.ts';
import * as store from '../store/folders.ts';
import { findRoom } from '../store/mailbox-use.ts';
import { addressOfMailbox } from '../store/mailboxes.ts';
import { TextLost } from '../store/message-files.ts';
import { composeLines } from '../store/message-lines.ts';
import { readOutlines } from '../store/outlines.ts';
import type { Readable } from '../store/read-database.ts';
import { findSharedFolder, listFolderRights, listSharedFolders, ownerOfFolder } from '../store/shared-mailboxes.ts';
import type { AccessParts } from './open-conversation.ts';

/** Texts above this take turns. */
const LARGE = 256 * 1024;
/** A text that is searched is there as it is, decoded, and in letters. */
const COPIES = 3;

/** Nobody reads what is sent any more: the work is given up. */
export class ClientGone extends Error {}

/** A mailbox read from the database, and changed through the service. */
export class StoredMailroom implements Mailroom {
  private readonly db: Readable;
  private readonly session: number;
  private readonly mailboxId: number;
  readonly address: string;
  private isClosed = false;

  constructor(
    private readonly parts: Pick<AccessParts, 'db' | 'texts' | 'port' | 'index' | 'largeTexts'>,
    { session, mailboxId, address }: { session: number; mailboxId: number; address: string },
  ) {
    this.db = parts.db;
    this.session = session;
    this.mailboxId = mailboxId;
    this.address = address;
  }

  /** The client is gone: what it asked for is given up. */
  close(): void {
    this.isClosed = true;
  }

  private requireClient(): void {
    if (this.isClosed) throw new ClientGone();
  }

  folders() {
    return [...store.listFolders(this.db, this.mailboxId), ...listSharedFolders(this.db, this.mailboxId)];
  }

  folder(id: number) {
    const own = store.findFolder(this.db, this.mailboxId, id);
    if (own) return own;
    const shared = findSharedFolder(this.db, this.mailboxId, id);
    // Whoever may not read it any more has nothing open.
    return shared?.rights.includes('r') ? shared : undefined;
  }

  deletedBytes(folder: number) {
    return store.deletedBytes(this.db, folder);
  }

  subscribed() {
    return store.listSubscribed(this.db, this.mailboxId);
  }

  messages(folder: number, from: number, to: number, most: number) {
    return store.listMessages(this.db, folder, from, to, most);
  }

  messagesOf(folder: number, uids: readonly number[]) {
    this.requireClient();
    return store.listMessagesOf(this.db, folder, uids);
  }

  indexed(folder: number, wanted: Wanted) {
    return this.parts.index.find(folder, wanted);
  }

  lines(folder: number, range: LineRange, pieces: readonly LinePiece[]) {
    return composeLines(this.db, folder, range, pieces);
  }

  marks(folder: number, after: number, most: number) {
    return store.listMarks(this.db, folder, after, most);
  }

  changedMarks(folder: number, since: number, most: number) {
    return store.listChangedMarks(this.db, folder, since, most);
  }

  expunged(folder: number, since: number, most: number) {
    return store.listExpunged(this.db, folder, since, most);
  }

  async outlines(messages: readonly FolderMessage[], parts: readonly OutlinePart[]): Promise<Map<string, Partial<Outline>>> {
    const found = readOutlines(
      this.db,
      messages.flatMap((one) => one.outlineId ?? []),
      parts,
    );
    const known = new Map<string, Partial<Outline>>();
    const made: { file: string; outline: Outline }[] = [];
    for (const one of messages) {
      const kept = one.outlineId === null ? undefined : found.get(one.outlineId);
      if (kept) known.set(one.file, kept);
      if (known.has(one.file)) continue;
      const outline = await this.withText(one, async (text) => text && outlineInTurns(text));
      if (!outline) continue;
      known.set(one.file, outline);
      made.push({ file: one.file, outline });
    }
    if (made.length > 0) this.parts.port.keepOutlines(made);
    return known;
  }

  withText<T>(message: FolderMessage, work: (text: Buffer | null) => Promise<T>): Promise<T> {
    const read = async (): Promise<T> => work(await this.slice(message, 0, Number.MAX_SAFE_INTEGER));
    return message.size <= LARGE ? read() : this.parts.largeTexts.run(this.mailboxId, message.size * COPIES, read);
  }

  async slice(message: FolderMessage, from: number, to: number): Promise<Buffer | null> {
    this.requireClient();
    try {
      return await this.parts.texts.slice(message.file, message.size - message.prefix.length, from, to);
    } catch (error) {
      if (!(error instanceof TextLost)) throw error;
      this.parts.port.textLost(this.session, error.text, error.how);
      return null;
    }
  }

  rightsOf(folder: number) {
    return listFolderRights(this.db, folder);
  }

  quotas(folder?: number): QuotaRoot[] {
    const mailboxId = (folder === undefined ? undefined : ownerOfFolder(this.db, folder)) ?? this.mailboxId;
    const address = mailboxId === this.mailboxId ? this.address : (addressOfMailbox(this.db, mailboxId) ?? '');
    const room = findRoom(this.db, mailboxId);
    if (!room) return [];
    const own = {
      // One's own has no name; a shared one has its address.
      root: mailboxId === this.mailboxId ? '' : address,
      usedBytes: room.usedBytes,
      mostBytes: room.quotaBytes,
      usedMessages: room.usedMessages,
      mostMessages: room.quotaMessages,
    };
    if (room.storageBytes === null && room.storageMessages === null) return [own];
    return [
      own,
      {
        root: domainSide(address),
        usedBytes: room.domainBytes,
        mostBytes: room.storageBytes,
        usedMessages: room.domainMessages,
        mostMessages: room.storageMessages,
      },
    ];
  }

  operate(operation: MailboxOperation) {
    return this.parts.port.operate(this.session, operation);
  }
}
