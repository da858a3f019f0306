import { nstring } from '../../mime/wire.ts';
import { command, isUtf8, mailroomOf, no, ok } from '../dialogue.ts';
import type { QuotaRoot } from '../mailroom.ts';
import { folderNameText } from '../names.ts';
import type { Tokens } from '../tokens.ts';
import { folderArgument } from './folders.ts';

/** All folders of a mailbox share one quota, and those of a domain may share another (RFC 9208 §3.2). STORAGE counts by 1024 octets (§5.1), MESSAGE messages (§5.2). */
function quotaText({ root, usedBytes, mostBytes, usedMessages, mostMessages }: QuotaRoot): string {
  const limits = [
    ...(mostBytes === null ? [] : [`STORAGE ${Math.ceil(usedBytes / 1024)} ${Math.floor(mostBytes / 1024)}`]),
    ...(mostMessages === null ? [] : [`MESSAGE ${usedMessages} ${mostMessages}`]),
  ];
  return `* QUOTA ${nstring(root)} (${limits.join(' ')})\r\n`;
}

export const getQuota = command(
  'signed-in',
  (tokens: Tokens) => {
    const root = tokens.astringText();
    tokens.end();
    return root;
  },
  async (dialogue, root, write) => {
    const found = mailroomOf(dialogue)
      .quotas()
      .find((one) => one.root === root);
    if (!found) return no('There is no such quota root', 'NONEXISTENT');
    await write(quotaText(found));
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
    const quotas = mailroomOf(dialogue).quotas(folder.id);
    const roots = quotas.map((one) => ` ${nstring(one.root)}`).join('');
    await write(`* QUOTAROOT ${folderNameText(folder.name, isUtf8(dialogue))}${roots}\r\n${quotas.map(quotaText).join('')}`);
    return ok();
  },
);
