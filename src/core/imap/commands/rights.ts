import type { Folder } from '../../mailbox/operations.ts';
import { ALL_RIGHTS, readRights } from '../../mailbox/rights.ts';
import { nstring } from '../../mime/wire.ts';
import { command, type Dialogue, type Ending, isUtf8, mailroomOf, no, ok } from '../dialogue.ts';
import { folderNameText, utf8String } from '../names.ts';
import type { Tokens } from '../tokens.ts';
import { folderArgument } from './folders.ts';
import { refusal } from './refused.ts';

const onlyFolder = (tokens: Tokens, dialogue: Dialogue): string | null => {
  const name = folderArgument(tokens, dialogue);
  tokens.end();
  return name;
};

const folderNamed = (dialogue: Dialogue, name: string | null): Folder | undefined =>
  mailroomOf(dialogue)
    .folders()
    .find((one) => one.name === name);

/** An identifier: the address of a mailbox (RFC 4314 §2). */
const identifierText = (address: string): string => (/^[\x20-\x7e]*$/.test(address) ? nstring(address) : utf8String(address));

const NO_FOLDER = no('There is no such folder', 'NONEXISTENT');
const NOT_YOURS = no('You do not have the right to see the rights there', 'NOPERM');

/** RFC 4314 §3.5 */
export const myRights = command('signed-in', onlyFolder, async (dialogue, name, write) => {
  const folder = folderNamed(dialogue, name);
  if (!folder) return NO_FOLDER;
  await write(`* MYRIGHTS ${folderNameText(folder.name, isUtf8(dialogue))} ${folder.rights}\r\n`);
  return ok();
});

/** RFC 4314 §3.3 */
export const getAcl = command('signed-in', onlyFolder, async (dialogue, name, write) => {
  const folder = folderNamed(dialogue, name);
  if (!folder) return NO_FOLDER;
  if (!folder.rights.includes('a')) return NOT_YOURS;
  const all = mailroomOf(dialogue).rightsOf(folder.id);
  const said = all.map(({ address, rights }) => ` ${identifierText(address)} ${rights}`).join('');
  await write(`* ACL ${folderNameText(folder.name, isUtf8(dialogue))}${said}\r\n`);
  return ok();
});

const folderAndWho = (tokens: Tokens, dialogue: Dialogue): { name: string | null; who: string } => {
  const name = folderArgument(tokens, dialogue);
  tokens.space();
  const who = tokens.astringText();
  tokens.end();
  return { name, who };
};

/** RFC 4314 §3.4: none is tied to another, and none is given to everybody. */
export const listRights = command('signed-in', folderAndWho, async (dialogue, { name, who }, write) => {
  const folder = folderNamed(dialogue, name);
  if (!folder) return NO_FOLDER;
  if (!folder.rights.includes('a')) return NOT_YOURS;
  await write(`* LISTRIGHTS ${folderNameText(folder.name, isUtf8(dialogue))} ${identifierText(who)} "" ${[...ALL_RIGHTS].join(' ')}\r\n`);
  return ok();
});

async function change(
  dialogue: Dialogue,
  { name, who, how, rights }: { name: string | null; who: string; how: 'add' | 'remove' | 'replace'; rights: string },
): Promise<Ending> {
  if (name === null) return NO_FOLDER;
  // RFC 4314 §2: neither everybody, nor what somebody may never do.
  if (who.startsWith('-') || who.toLowerCase() === 'anyone') return no('Rights can be granted to single mailboxes only', 'CANNOT');
  const result = await mailroomOf(dialogue).operate({ kind: 'grant', name, who, how, rights });
  return result.kind === 'refused' ? refusal(result) : ok();
}

/** RFC 4314 §3.1 */
export const setAcl = command(
  'signed-in',
  (tokens: Tokens, dialogue) => {
    const name = folderArgument(tokens, dialogue);
    tokens.space();
    const who = tokens.astringText();
    tokens.space();
    const letters = tokens.astringText();
    tokens.end();
    const how = letters.startsWith('+') ? ('add' as const) : letters.startsWith('-') ? ('remove' as const) : ('replace' as const);
    return { name, who, how, rights: readRights(how === 'replace' ? letters : letters.slice(1)) };
  },
  async (dialogue, { rights, ...asked }) =>
    rights === null ? { kind: 'BAD', text: 'There is no such right' } : change(dialogue, { ...asked, rights }),
);

/** RFC 4314 §3.2 */
export const deleteAcl = command('signed-in', folderAndWho, (dialogue, asked) =>
  change(dialogue, { ...asked, how: 'replace', rights: '' }),
);
