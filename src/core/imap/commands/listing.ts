import { INBOX, SEPARATOR } from '../../mailbox/folder-names.ts';
import type { Folder } from '../../mailbox/operations.ts';
import { command, type Dialogue, isUtf8, mailroomOf, ok, type Write } from '../dialogue.ts';
import { fitsPattern, folderNameText, fromModifiedUtf7 } from '../names.ts';
import { SyntaxFault, type Tokens } from '../tokens.ts';
import { readStatusItems, statusText } from './status.ts';

const SELECTION = ['SUBSCRIBED', 'REMOTE', 'RECURSIVEMATCH', 'SPECIAL-USE'];
const RETURNS = ['SUBSCRIBED', 'CHILDREN', 'SPECIAL-USE'];
const LONGEST_PATTERN = 1000;
const MOST_PATTERNS = 100;

interface ListAsked {
  patterns: string[];
  selection: Set<string>;
  returns: Set<string>;
  status: string[] | null;
  /** Only the separator is asked for (RFC 3501 §6.3.8). */
  isRoot: boolean;
}

const words = (tokens: Tokens, known: readonly string[]): Set<string> => {
  const found = new Set(tokens.list(() => tokens.word(), true));
  for (const one of found) if (!known.includes(one)) throw new SyntaxFault(`${one.slice(0, 40)} is not a LIST option`);
  return found;
};

function patternOf(reference: string, pattern: string, dialogue: Dialogue): string {
  const whole = reference + pattern;
  if (whole.length > LONGEST_PATTERN) throw new SyntaxFault('The pattern is too long');
  const text = isUtf8(dialogue) || /[^\x20-\x7e]/.test(whole) ? whole : (fromModifiedUtf7(whole) ?? whole);
  return text.normalize('NFC');
}

/** RFC 3501 §6.3.8, RFC 5258, RFC 5819, RFC 6154 */
export const list = command(
  'signed-in',
  (tokens: Tokens, dialogue): ListAsked => {
    const selection = tokens.peek() === '(' ? words(tokens, SELECTION) : new Set<string>();
    if (selection.size > 0 || tokens.peek() === ' ') tokens.space();
    if (selection.has('RECURSIVEMATCH') && selection.size === 1) throw new SyntaxFault('RECURSIVEMATCH needs another option');
    const reference = tokens.astring().toString('utf8');
    tokens.space();
    const given = tokens.peek() === '(' ? tokens.list(() => tokens.pattern()) : [tokens.pattern()];
    if (given.length > MOST_PATTERNS) throw new SyntaxFault('There are too many patterns');
    const returns = new Set<string>();
    let status: string[] | null = null;
    if (!tokens.isAtEnd) {
      tokens.space();
      tokens.expect('RETURN');
      tokens.space();
      tokens.list(() => {
        const option = tokens.word();
        if (option === 'STATUS') {
          tokens.space();
          status = readStatusItems(tokens);
        } else if (RETURNS.includes(option)) returns.add(option);
        else throw new SyntaxFault(`${option.slice(0, 40)} is not a LIST option`);
      }, true);
      tokens.end();
    }
    return {
      patterns: given.map((one) => patternOf(reference, one, dialogue)),
      selection,
      returns,
      status,
      isRoot: given.length === 1 && given[0] === '' && selection.size === 0,
    };
  },
  async (dialogue, asked, write) => {
    if (asked.isRoot) {
      await write(`* LIST (\\Noselect) "${SEPARATOR}" ""\r\n`);
      return ok();
    }
    await showFolders(dialogue, asked, write);
    return ok();
  },
);

async function showFolders(dialogue: Dialogue, { patterns, selection, returns, status }: ListAsked, write: Write): Promise<void> {
  const mailroom = mailroomOf(dialogue);
  const folders = new Map(mailroom.folders().map((one) => [one.name, one]));
  const subscribed = new Set(mailroom.subscribed());
  const names = allNames([...folders.keys(), ...(selection.has('SUBSCRIBED') ? subscribed : [])]);
  const isWanted = (name: string): boolean =>
    (!selection.has('SUBSCRIBED') || subscribed.has(name)) && (!selection.has('SPECIAL-USE') || folders.get(name)?.specialUse != null);
  const showsSubscribed = selection.has('SUBSCRIBED') || returns.has('SUBSCRIBED');
  for (const name of names) {
    if (!patterns.some((pattern) => fitsPattern(name, pattern))) continue;
    const below = names.filter((one) => one.startsWith(name + SEPARATOR));
    // RFC 5258 §3.5: a folder that is not wanted itself is shown for those in it that are, and that the patterns leave out.
    const wantedBelow =
      selection.has('RECURSIVEMATCH') && below.some((one) => isWanted(one) && !patterns.some((pattern) => fitsPattern(one, pattern)));
    if (!isWanted(name) && !wantedBelow) continue;
    const folder = folders.get(name);
    const attributes = [
      ...attributesOf(folder, selection.has('SUBSCRIBED')),
      below.some((one) => folders.has(one)) ? '\\HasChildren' : '\\HasNoChildren',
      ...(showsSubscribed && subscribed.has(name) ? ['\\Subscribed'] : []),
    ];
    const extra = wantedBelow ? ` ("CHILDINFO" ("${selection.has('SUBSCRIBED') ? 'SUBSCRIBED' : 'SPECIAL-USE'}"))` : '';
    await write(`* LIST (${attributes.join(' ')}) "${SEPARATOR}" ${folderNameText(name, isUtf8(dialogue))}${extra}\r\n`);
    if (status && folder) await write(statusText(dialogue, folder, status));
  }
}

/** All names, with those that are only on the way to others, in the order of people. */
function allNames(given: readonly string[]): string[] {
  const names = new Set(given);
  for (const name of given)
    for (let at = name.lastIndexOf(SEPARATOR); at > 0; at = name.lastIndexOf(SEPARATOR, at - 1)) names.add(name.slice(0, at));
  return [...names].sort((one, other) => Number(other === INBOX) - Number(one === INBOX) || (one < other ? -1 : 1));
}

const USE_NAMES = { drafts: '\\Drafts', sent: '\\Sent', junk: '\\Junk', trash: '\\Trash', archive: '\\Archive' } as const;

const attributesOf = (folder: Folder | undefined, isExtended: boolean): string[] =>
  folder === undefined ? [isExtended ? '\\NonExistent' : '\\Noselect'] : folder.specialUse === null ? [] : [USE_NAMES[folder.specialUse]];

/** RFC 3501 §6.3.9 */
export const lsub = command(
  'signed-in',
  (tokens: Tokens, dialogue) => {
    const reference = tokens.astring().toString('utf8');
    tokens.space();
    const pattern = patternOf(reference, tokens.pattern(), dialogue);
    tokens.end();
    return pattern;
  },
  async (dialogue, pattern, write) => {
    const subscribed = mailroomOf(dialogue).subscribed();
    const own = new Set(subscribed);
    for (const name of allNames(subscribed)) {
      if (!fitsPattern(name, pattern)) continue;
      // A folder that is on the way to one that is subscribed is shown where `%` would end there.
      if (!own.has(name) && !pattern.includes('%')) continue;
      await write(`* LSUB (${own.has(name) ? '' : '\\Noselect'}) "${SEPARATOR}" ${folderNameText(name, isUtf8(dialogue))}\r\n`);
    }
    return ok();
  },
);
