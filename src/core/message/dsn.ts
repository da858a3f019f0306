import { bodyOffset } from './fields.ts';
import { mailDate } from './trace.ts';

export interface FailedRecipient {
  recipient: string;
  /** RFC 3463, such as 5.1.1. */
  status: string;
  /** The last SMTP reply or our own finding, one line. */
  diagnostic: string;
  remoteHost: string | null;
}

export interface DsnFacts {
  hostName: string;
  /** Who gets the report: the envelope sender of the failed message. */
  to: string;
  id: string;
  originalId: string;
  at: number;
  arrivedAt: number;
  failures: readonly FailedRecipient[];
  original: Buffer;
}

const oneLine = (text: string): string => text.replace(/[^\x20-\x7e]+/g, ' ').slice(0, 500);

/** A delivery status notification for final failures (RFC 3461 §6, RFC 3464), with the original's header. */
export function failureReport(facts: DsnFacts): Buffer {
  const boundary = `part-${facts.id}`;
  const header = facts.original.subarray(0, Math.min(bodyOffset(facts.original), 64 * 1024)).toString('latin1');
  const words = facts.failures.map((failure) => `  ${failure.recipient}\r\n    ${oneLine(failure.diagnostic)}\r\n`);
  const status = facts.failures.map(
    (failure) =>
      `Final-Recipient: rfc822; ${failure.recipient}\r\nAction: failed\r\nStatus: ${failure.status}\r\n` +
      (failure.remoteHost ? `Remote-MTA: dns; ${failure.remoteHost}\r\n` : '') +
      `Diagnostic-Code: smtp; ${oneLine(failure.diagnostic)}\r\n`,
  );
  return Buffer.from(
    `Date: ${mailDate(facts.at)}\r\n` +
      `From: Mail delivery <postmaster@${facts.hostName}>\r\n` +
      `To: <${facts.to}>\r\n` +
      `Subject: Your message did not reach ${facts.failures.length === 1 ? oneLine(facts.failures[0]?.recipient ?? '') : `${facts.failures.length} recipients`}\r\n` +
      `Message-ID: <${facts.id}@${facts.hostName}>\r\n` +
      // RFC 3834 §5: programs must not answer this.
      'Auto-Submitted: auto-replied\r\n' +
      'MIME-Version: 1.0\r\n' +
      `Content-Type: multipart/report; report-type=delivery-status;\r\n\tboundary="${boundary}"\r\n\r\n` +
      `--${boundary}\r\nContent-Type: text/plain; charset=us-ascii\r\n\r\n` +
      'Your message could not be delivered to:\r\n\r\n' +
      words.join('\r\n') +
      `\r\nNothing more will be tried. Ask your provider about journey ${facts.originalId}\r\nif this is a surprise.\r\n` +
      `\r\n--${boundary}\r\nContent-Type: message/delivery-status\r\n\r\n` +
      `Reporting-MTA: dns; ${facts.hostName}\r\nArrival-Date: ${mailDate(facts.arrivedAt)}\r\n\r\n` +
      status.join('\r\n') +
      `\r\n--${boundary}\r\nContent-Type: text/rfc822-headers\r\n\r\n${header.trimEnd()}\r\n\r\n--${boundary}--\r\n`,
    'latin1',
  );
}
