import { bodyOffset, fieldsNamed, parseFields } from '../../message/fields.ts';
import { type DataDefect, LONGEST_TEXT_LINE } from '../data-reader.ts';
import { REPLIES, type Reply } from '../replies.ts';
import type { Dialogue } from './dialogue.ts';

const LARGEST_HEADER = 256 * 1024;
/** Each of them costs whoever reads it something, also when it is empty. */
const MOST_FIELDS = 2000;
const MOST_HOPS = 50;

interface Text {
  content: Buffer;
  defect: DataDefect | null;
}

/** A message's text has come to its end, by DATA or in chunks: it is asked to be taken, or refused. */
export function endOfText(dialogue: Dialogue, text: Text): void {
  const { envelope } = dialogue;
  dialogue.settings.overhear?.('client', `(a text of ${text.content.length} octets${text.defect === null ? '' : `: ${text.defect}`})`);
  const refusal = textRefusal(text, dialogue.settings.maxMessageBytes);
  if (!refusal && envelope) return dialogue.ask({ kind: 'message', envelope, content: text.content });
  dialogue.endTransaction(true);
  dialogue.reply(refusal ?? REPLIES.mailFirst);
}

function textRefusal({ content, defect }: Text, most: number): Reply | null {
  if (defect === 'no-space') return REPLIES.busy;
  if (defect === 'too-big') return REPLIES.tooBig(most);
  if (defect === 'bare-line-end') return REPLIES.bareLineEnd;
  if (defect === 'line-too-long') return REPLIES.textLineTooLong(LONGEST_TEXT_LINE);
  // RFC 5322 §2.2.3: what begins with a blank continues a field, and the one before it would be ours.
  if (content[0] === 0x20 || content[0] === 0x09) return REPLIES.beginsWithBlank;
  // RFC 5321 §2.3.8, RFC 5322 §2.2: text holds no NUL, and programs end at one or not.
  if (content.includes(0)) return REPLIES.holdsNul;
  if (bodyOffset(content) > LARGEST_HEADER) return REPLIES.headerTooBig(LARGEST_HEADER);
  const fields = parseFields(content);
  if (fields.length > MOST_FIELDS) return REPLIES.tooManyFields(MOST_FIELDS);
  return fieldsNamed(fields, 'Received').length > MOST_HOPS ? REPLIES.looping : null;
}
