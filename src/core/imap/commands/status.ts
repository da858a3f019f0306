import type { Folder } from '../../mailbox/operations.ts';
import { command, type Dialogue, isUtf8, mailroomOf, no, ok } from '../dialogue.ts';
import { folderNameText } from '../names.ts';
import { SyntaxFault, type Tokens } from '../tokens.ts';
import { folderArgument } from './folders.ts';

/** What can be asked of a folder without selecting it (RFC 3501 §6.3.10, RFC 7162 §3.1.7, RFC 8438, RFC 8474 §5.2, RFC 9051, RFC 9208 §4.1.4). */
const ITEMS: Record<string, (folder: Folder, dialogue: Dialogue) => string> = {
  MESSAGES: (one) => String(one.messages),
  // No message is recent: RFC 9051 has done away with it.
  RECENT: () => '0',
  UIDNEXT: (one) => String(one.nextUid),
  UIDVALIDITY: (one) => String(one.uidValidity),
  UNSEEN: (one) => String(one.unseen),
  DELETED: (one) => String(one.deleted),
  'DELETED-STORAGE': (one, dialogue) => String(mailroomOf(dialogue).deletedBytes(one.id)),
  APPENDLIMIT: (_one, { settings }) => String(settings.maxMessageBytes),
  SIZE: (one) => String(one.bytes),
  HIGHESTMODSEQ: (one) => String(one.highestModseq),
  MAILBOXID: (one) => `(F${one.id})`,
};

export function readStatusItems(tokens: Tokens): string[] {
  return tokens.list(() => {
    const item = tokens.word();
    if (!Object.hasOwn(ITEMS, item)) throw new SyntaxFault(`${item.slice(0, 40)} is not a STATUS item`);
    return item;
  });
}

export function statusText(dialogue: Dialogue, folder: Folder, items: readonly string[]): string {
  // RFC 7162 §3.1: who asks for it once wants it from then on.
  if (items.includes('HIGHESTMODSEQ')) dialogue.enabled.add('CONDSTORE');
  const values = items.map((item) => `${item} ${ITEMS[item]?.(folder, dialogue)}`);
  return `* STATUS ${folderNameText(folder.name, isUtf8(dialogue))} (${values.join(' ')})\r\n`;
}

export const status = command(
  'signed-in',
  (tokens: Tokens, dialogue) => {
    const name = folderArgument(tokens, dialogue);
    tokens.space();
    const items = readStatusItems(tokens);
    tokens.end();
    return { name, items };
  },
  async (dialogue, { name, items }, write) => {
    const folder = mailroomOf(dialogue)
      .folders()
      .find((one) => one.name === name);
    if (!folder) return no('There is no such folder', 'NONEXISTENT');
    await write(statusText(dialogue, folder, items));
    return ok();
  },
);
