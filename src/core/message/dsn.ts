import { REPORT_TEXTS, severalRecipients } from '../../texts/en/reports.ts';
import { needsUtf8 } from '../address/mailbox-address.ts';
import type { ReportAction } from '../vocabulary.ts';
import { bodyOffset } from './fields.ts';
import { mailDate } from './trace.ts';

export interface ReportedRecipient {
  recipient: string;
  /** What the sender wrote at first (RFC 3461 §4.2), `type;address` with xtext undone. */
  original: string | null;
  /** RFC 3463, such as 5.1.1. */
  status: string;
  /** The last SMTP reply or our own finding, one line; empty when there is nothing to say. */
  diagnostic: string;
  remoteHost: string | null;
}

export interface DsnFacts {
  action: ReportAction;
  hostName: string;
  /** Who gets the report: the envelope sender of the message. */
  to: string;
  id: string;
  originalId: string;
  at: number;
  arrivedAt: number;
  /** When trying ends, for what is delayed. */
  until: number | null;
  /** RFC 3461 §4.4, xtext undone. */
  envelopeId: string | null;
  recipients: readonly ReportedRecipient[];
  original: Buffer;
  /** Whether the whole message comes back, or its header only. */
  whole: boolean;
}

const MOST_RETURNED = 256 * 1024;
const MOST_HEADER = 64 * 1024;

const isAscii = (text: string): boolean => Buffer.byteLength(text) === text.length;
const needs8bit = (octets: Buffer): boolean => octets.some((octet) => octet > 0x7f);

/** Without the line ends at its end. Octets, not letters: the last one of “à” alone would pass for a space. */
function withoutLastLineEnds(octets: Buffer): Buffer {
  let end = octets.length;
  while (end > 0 && (octets[end - 1] === 0x0d || octets[end - 1] === 0x0a)) end -= 1;
  return octets.subarray(0, end);
}

const oneLine = (text: string): string => text.replace(/[^\x20-\x7e\u00a0-\uffff]+/g, ' ').slice(0, 500);

/** Undoes xtext (RFC 3461 §4). */
export const fromXtext = (text: string): string =>
  text.replace(/\+([0-9A-F]{2})/g, (_whole, hex) => String.fromCharCode(Number.parseInt(hex, 16))).replace(/[^\x20-\x7e]/g, '?');

/** A delivery status notification (RFC 3461 §6, RFC 3464; with addresses beyond ASCII RFC 6533). */
export function deliveryReport(facts: DsnFacts): Buffer {
  const { action, hostName, originalId, recipients } = facts;
  const said = REPORT_TEXTS[action];
  const boundary = `part-${facts.id}`;
  const utf8 = recipients.some((one) => needsUtf8(one.recipient)) || needsUtf8(facts.to);
  const who = recipients.length === 1 ? oneLine(recipients[0]?.recipient ?? '') : severalRecipients(recipients.length);
  const words = recipients.map((one) => `  ${one.recipient}\r\n${one.diagnostic === '' ? '' : `    ${oneLine(one.diagnostic)}\r\n`}`);
  const until = facts.until === null ? '' : `Will-Retry-Until: ${mailDate(facts.until)}\r\n`;
  const status = recipients.map(
    (one) =>
      (one.original ? `Original-Recipient: ${oneLine(one.original)}\r\n` : '') +
      `Final-Recipient: ${needsUtf8(one.recipient) ? 'utf-8' : 'rfc822'}; ${one.recipient}\r\nAction: ${action}\r\nStatus: ${one.status}\r\n` +
      (one.remoteHost ? `Remote-MTA: dns; ${one.remoteHost}\r\n` : '') +
      // §2.3.6: what a server said, in its words; what we found ourselves stands in the text for people.
      (isReply(one)
        ? `Diagnostic-Code: smtp; ${utf8 ? oneLine(one.diagnostic) : oneLine(one.diagnostic).replace(/[^\x20-\x7e]/g, '?')}\r\n`
        : '') +
      `Last-Attempt-Date: ${mailDate(facts.at)}\r\n${until}`,
  );
  const whole = facts.whole && action === 'failed' && facts.original.length <= MOST_RETURNED;
  const header = (): Buffer => facts.original.subarray(0, Math.min(bodyOffset(facts.original), MOST_HEADER));
  const returned = withoutLastLineEnds(whole ? facts.original : header());
  const plain = `${said.before}\r\n\r\n${words.join('\r\n')}\r\n${said.after(originalId)}\r\n`;
  // RFC 2045 §6.4: what holds a part of 8 bits is of 8 bits itself.
  const bits = utf8 || !isAscii(plain) || needs8bit(returned) ? '8bit' : '7bit';
  const encoding = (is8bit: boolean): string => `Content-Transfer-Encoding: ${is8bit ? '8bit' : '7bit'}\r\n`;
  const returnedType = whole ? (utf8 ? 'message/global' : 'message/rfc822') : utf8 ? 'message/global-headers' : 'text/rfc822-headers';
  const head =
    `Date: ${mailDate(facts.at)}\r\n` +
    `From: Mail delivery <postmaster@${hostName}>\r\n` +
    `To: <${facts.to}>\r\n` +
    `Subject: ${said.subject(who)}\r\n` +
    `Message-ID: <${facts.id}@${hostName}>\r\n` +
    // RFC 3834 §5: programs must not answer this.
    'Auto-Submitted: auto-replied\r\n' +
    `MIME-Version: 1.0\r\nContent-Transfer-Encoding: ${bits}\r\n` +
    `Content-Type: multipart/report; report-type=${utf8 ? 'global-delivery-status' : 'delivery-status'};\r\n\tboundary="${boundary}"\r\n\r\n` +
    `--${boundary}\r\nContent-Type: text/plain; charset=utf-8\r\n${encoding(!isAscii(plain))}\r\n${plain}` +
    `\r\n--${boundary}\r\nContent-Type: message/${utf8 ? 'global-' : ''}delivery-status\r\n${encoding(utf8)}\r\n` +
    (facts.envelopeId ? `Original-Envelope-Id: ${oneLine(facts.envelopeId)}\r\n` : '') +
    `Reporting-MTA: dns; ${hostName}\r\nArrival-Date: ${mailDate(facts.arrivedAt)}\r\n\r\n` +
    `${status.join('\r\n')}\r\n--${boundary}\r\nContent-Type: ${returnedType}\r\n${encoding(needs8bit(returned))}\r\n`;
  return Buffer.concat([Buffer.from(head, 'utf8'), returned, Buffer.from(`\r\n\r\n--${boundary}--\r\n`)]);
}

/** Whether the diagnostic is the reply of another server. */
const isReply = ({ remoteHost, diagnostic }: ReportedRecipient): boolean => remoteHost !== null && /^[245]\d\d[ -]/.test(diagnostic);
