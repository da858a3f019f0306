import { firstField } from '../mime/header.ts';
import { breathe } from '../pieces.ts';
import { attachmentFindings } from './attachments.ts';
import { readContents } from './contents.ts';
import { fieldFindings } from './fields.ts';
import { type MessageFinding, messageFindings } from './finding.ts';
import { linkFindings } from './links.ts';
import { isToMany, type ListFields } from './list-mail.ts';
import { partFindings } from './parts.ts';

/** Octets of a message that is scored: it is read at once. */
export const LARGEST_SCORED = 10 * 1024 * 1024;

/** Octets beyond which mailboxes begin to refuse, as it grows on its way. */
const LARGE = 5 * 1024 * 1024;
/** Programs cut HTML off about here. */
const LONG_HTML = 100 * 1024;

/** What can be said of a message by its text alone; plain values, since another process may read it. */
export interface MessageReading {
  findings: MessageFinding[];
  /** Null for a message to one. */
  list: ListFields | null;
}

/** Reads a message that came at `at` (in ms): its header, parts, links and attachments. */
export async function readMessage(text: Buffer, at: number): Promise<MessageReading> {
  const contents = readContents(text);
  const { fields } = contents.root;
  await breathe();
  const ofParts = partFindings(text, contents);
  await breathe();
  return {
    findings: [
      ...fieldFindings(fields, at),
      ...ofParts,
      ...linkFindings(contents.html?.links ?? []),
      ...attachmentFindings(contents.attached),
      ...sizeFindings(text.length, contents.htmlSize),
    ],
    list: isToMany(contents)
      ? { unsubscribe: firstField(fields, 'list-unsubscribe'), post: firstField(fields, 'list-unsubscribe-post') }
      : null,
  };
}

function sizeFindings(size: number, htmlSize: number): MessageFinding[] {
  const mib = (size / 1024 / 1024).toFixed(1);
  if (size > LARGE)
    return messageFindings('size', [
      { code: 'size-large', headline: `It has ${mib} MiB.`, remedy: 'Upload large files, and send a link.' },
    ]);
  if (htmlSize > LONG_HTML)
    return messageFindings('size', [
      {
        code: 'size-html',
        headline: `Its HTML has ${Math.round(htmlSize / 1024)} KiB.`,
        remedy: 'Shorten it to below 100 KiB; styles usually take most.',
      },
    ]);
  return messageFindings('size', [
    { code: 'size-good', headline: `It has ${size < 1024 * 1024 ? `${Math.max(1, Math.round(size / 1024))} KiB` : `${mib} MiB`}.` },
  ]);
}
