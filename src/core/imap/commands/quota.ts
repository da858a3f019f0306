import { nstring } from '../../mime/wire.ts';
import { command, type Dialogue, isUtf8, mailroomOf, no, ok } from '../dialogue.ts';
import { folderNameText } from '../names.ts';
import type { Tokens } from '../tokens.ts';
import { folderArgument } from './folders.ts';

/** All folders of a mailbox share one quota, whose root has no name (RFC 9208 §3.2). Its unit is 1024 octets (§5.1). */
function quotaText(dialogue: Dialogue): string {
  const { usedBytes, mostBytes } = mailroomOf(dialogue).quota();
  return `* QUOTA "" (STORAGE ${Math.ceil(usedBytes / 1024)} ${Math.floor(mostBytes / 1024)})\r\n`;
}

export const getQuota = command(
  'signed-in',
  (tokens: Tokens) => {
    const root = tokens.astringText();
    tokens.end();
    return root;
  },
  async (dialogue, root, write) => {
    if (root !== '') return no('There is no such quota root', 'NONEXISTENT');
    await write(quotaText(dialogue));
    return ok();
  },
);

export const getQuotaRoot = command(
  'signed-in',
  (tokens: Tokens, dialogue) => {
    const name = folderArgument(tokens, dialogue);
    tokens.end();
    return name;
  },
  async (dialogue, name, write) => {
    const folder = mailroomOf(dialogue)
      .folders()
      .find((one) => one.name === name);
    if (!folder) return no('There is no such folder', 'NONEXISTENT');
    await write(`* QUOTAROOT ${folderNameText(folder.name, isUtf8(dialogue))} ${nstring('')}\r\n${quotaText(dialogue)}`);
    return ok();
  },
);
