import { type Flags, flagsOf } from '../../mailbox/flags.ts';
import type { AppendedMessage } from '../../mailbox/operations.ts';
import { type Range, rangesText } from '../../mailbox/uid-set.ts';
import { type CatPart, catenated, readCatenate } from '../catenate.ts';
import { command, type Dialogue, type Ending, mailroomOf, no, ok, viewOf, type Write } from '../dialogue.ts';
import { SyntaxFault, type Tokens } from '../tokens.ts';
import { folderArgument } from './folders.ts';
import { refusalOfTarget } from './refused.ts';

const MONTHS = ['jan', 'feb', 'mar', 'apr', 'may', 'jun', 'jul', 'aug', 'sep', 'oct', 'nov', 'dec'];
const MOST_AT_ONCE = 500;

/** RFC 3501 §9, date-time; null for one that is none. */
function readDateTime(text: string): number | null {
  const found = /^([ \d]\d)-([a-z]{3})-(\d{4}) (\d{2}):(\d{2}):(\d{2}) ([+-])(\d{2})(\d{2})$/i.exec(text);
  if (!found) return null;
  const [, day, month = '', year, hour, minute, second, sign, zoneHour, zoneMinute] = found;
  const at = MONTHS.indexOf(month.toLowerCase());
  if (at < 0 || Number(hour) > 23 || Number(minute) > 59 || Number(second) > 60 || Number(day) < 1 || Number(day) > 31) return null;
  const local = Date.UTC(Number(year), at, Number(day), Number(hour), Number(minute), Number(second));
  // A day that its month does not have.
  if (new Date(Date.UTC(Number(year), at, Number(day))).getUTCMonth() !== at) return null;
  return local - (sign === '-' ? -1 : 1) * (Number(zoneHour) * 60 + Number(zoneMinute)) * 60_000;
}

/** What was sent: the text, or what it is to be put together of (RFC 4469). */
type Sent = Flags & { internalDate: number | null; text: Buffer | CatPart[] };
type Given = Omit<AppendedMessage, 'internalDate'> & { internalDate: number | null };

/** One message with what stands before it: flags, a date. */
function readMessage(tokens: Tokens): Sent {
  let flags: Flags = { flags: 0, keywords: '' };
  let internalDate: number | null = null;
  if (tokens.peek() === '(') {
    const found = flagsOf(tokens.flags());
    if (!found) throw new SyntaxFault('These flags cannot be set');
    flags = found;
    tokens.space();
  }
  if (tokens.peek() === '"') {
    internalDate = readDateTime(tokens.octets().toString('latin1'));
    if (internalDate === null) throw new SyntaxFault('Invalid date and time');
    tokens.space();
  }
  return { ...flags, internalDate, text: tokens.take('CATENATE ') ? readCatenate(tokens) : readText(tokens) };
}

/** A literal, also one of eight bits (RFC 3516 §4.4), also as UTF8 (RFC 6855 §4). */
function readText(tokens: Tokens): Buffer {
  if (tokens.take('UTF8 (')) {
    const text = readLiteral(tokens);
    tokens.expect(')');
    return text;
  }
  return readLiteral(tokens);
}

function readLiteral(tokens: Tokens): Buffer {
  const text = tokens.literal();
  if (!text) throw new SyntaxFault('The message must be a literal');
  return text;
}

/** What a text must be to be kept: not empty, and without what no message may hold (RFC 5322 §2.3). */
const whyNotKept = ({ text }: Given): Ending | null =>
  text.length === 0 ? no('The message is empty', 'CANNOT') : text.includes(0) ? no('A message cannot contain NUL', 'UNKNOWN-CTE') : null;

/** Date where none was given: now. The service knows the time. */
const NOW = 0;

async function put(
  dialogue: Dialogue,
  to: string | null,
  sent: readonly Sent[],
  instead: { folder: number; uid: number } | null,
): Promise<Ending> {
  if (to === null) return no('Invalid folder name', 'CANNOT');
  const given: Given[] = [];
  for (const { text, ...more } of sent) {
    const whole = Array.isArray(text) ? await catenated(dialogue, text) : text;
    if (!Buffer.isBuffer(whole)) return whole;
    given.push({ ...more, text: whole });
  }
  const why = given.map(whyNotKept).find((one) => one !== null);
  if (why) return why;
  const messages = given.map((one) => ({ ...one, internalDate: one.internalDate ?? NOW }));
  const result = await mailroomOf(dialogue).operate({ kind: 'append', to, messages, instead });
  if (result.kind === 'refused') return refusalOfTarget(result);
  if (result.kind !== 'appended') return no('Internal error');
  const [first = 0] = result.uids;
  return ok('Kept', `APPENDUID ${result.uidValidity} ${rangesText([[first, first + result.uids.length - 1]])}`);
}

/** RFC 3501 §6.3.11, RFC 3502 (several at once), RFC 4315, RFC 4469 (put together) */
export const append = command(
  'signed-in',
  (tokens: Tokens, dialogue) => {
    const to = folderArgument(tokens, dialogue);
    const messages: Sent[] = [];
    do {
      tokens.space();
      messages.push(readMessage(tokens));
    } while (!tokens.isAtEnd && messages.length < MOST_AT_ONCE);
    tokens.end();
    return { to, messages };
  },
  (dialogue, { to, messages }) => put(dialogue, to, messages, null),
);

const readReplace = (tokens: Tokens, dialogue: Dialogue): { set: Range[] | '$'; to: string | null; message: Sent } => {
  const set = tokens.sequenceSet();
  tokens.space();
  const to = folderArgument(tokens, dialogue);
  tokens.space();
  const message = readMessage(tokens);
  tokens.end();
  return { set, to, message };
};

const runReplace =
  (byUid: boolean) =>
  async (dialogue: Dialogue, { set, to, message }: ReturnType<typeof readReplace>, write: Write): Promise<Ending> => {
    const view = viewOf(dialogue);
    if (view.isReadOnly) return no('The folder is open read-only', 'CANNOT');
    const [range, ...more] = set === '$' ? [] : (view.resolve(set, byUid) ?? []);
    if (!range || more.length > 0 || range[0] !== range[1]) return { kind: 'BAD', text: 'REPLACE takes one message' };
    const ending = await put(dialogue, to, [message], { folder: view.folder.id, uid: view.uidAt(range[0]) });
    if (ending.kind !== 'OK') return ending;
    // RFC 8508 §4.3: said before the old one goes.
    await write(`* OK [${ending.code}] Kept\r\n`);
    return ok('Replaced');
  };

/** RFC 8508 */
export const replace = command('selected', readReplace, runReplace(false));
export const uidReplace = command('selected', readReplace, runReplace(true));
