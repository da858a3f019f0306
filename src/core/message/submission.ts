import { addressesIn } from './address-list.ts';
import { authorsOf } from './authors.ts';
import { displayText, fieldsNamed, parseFields } from './fields.ts';
import { mailDate } from './trace.ts';

export type SubmissionReading = { kind: 'ok'; from: string[]; missing: ('Date' | 'Message-ID')[] } | { kind: 'refused'; reason: string };

/** Reads what a submission server must know of a message: who it says it is from, and what it lacks (RFC 6409 §8). */
export function readSubmission(message: Buffer): SubmissionReading {
  const fields = parseFields(message);
  const from = fieldsNamed(fields, 'From');
  if (from.length === 0) return { kind: 'refused', reason: 'The message has no From field' };
  if (from.length > 1) return { kind: 'refused', reason: 'The message has more than one From field' };
  const value = from[0]?.value ?? '';
  // Many programs write an address as the name of an address, without the quotes.
  const isReadable = addressesIn(value) !== null || /^[^<>"(),:;]*<[^<>"(),:;\s]*>$/.test(value);
  // Whatever a program might show as the author has to be the sender's own.
  const authors = authorsOf(fields).addresses;
  if (!isReadable || authors.length === 0) return { kind: 'refused', reason: 'The From field holds no readable address' };
  const sender = fieldsNamed(fields, 'Sender').flatMap((field) => addressesIn(field.value) ?? ['']);
  const missing = (['Date', 'Message-ID'] as const).filter((name) => fieldsNamed(fields, name).length === 0);
  return { kind: 'ok', from: [...authors, ...sender], missing };
}

/** By what people look for a message: its subject, and its Message-ID without the angle brackets. */
export interface MessageSummary {
  subject: string;
  messageId: string | null;
}

export function summaryOf(message: Buffer): MessageSummary {
  const fields = parseFields(message);
  const id = /<([^<>\s]{1,250})>/.exec(fieldsNamed(fields, 'Message-ID')[0]?.value ?? '')?.[1] ?? null;
  return { subject: displayText(fieldsNamed(fields, 'Subject')[0]?.value ?? ''), messageId: id === null ? null : displayText(id, 250) };
}

export const subjectOf = (message: Buffer): string => summaryOf(message).subject;

/** The fields that a submission lacks, ready to stand before the message (RFC 6409 §8.1, §8.2). */
export function missingFields(missing: readonly string[], facts: { at: number; unique: string; domain: string }): string {
  let text = '';
  if (missing.includes('Date')) text += `Date: ${mailDate(facts.at)}\r\n`;
  if (missing.includes('Message-ID')) text += `Message-ID: <${facts.unique}@${facts.domain}>\r\n`;
  return text;
}
