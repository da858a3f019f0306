import { mailDate } from '../message/trace.ts';

/** A message that is really sent, known by a mark that nobody else has. */
export interface RehearsalLetter {
  /** 20 letters and digits. */
  mark: string;
  /** In ms. */
  at: number;
}

/** An author that nobody has (RFC 6761 §6.4): no policy is asked for it, and nobody is named who did not write. */
export const NOBODY = 'rehearsal@rehearsal.invalid';

export const messageIdOf = ({ mark }: RehearsalLetter): string => `<${mark}@rehearsal.invalid>`;

/** As it goes over the wire, with the dot that ends it. */
export const letterLines = (letter: RehearsalLetter, from: string, to: string): string =>
  [
    `From: <${from}>`,
    `To: <${to}>`,
    'Subject: A rehearsal',
    `Date: ${mailDate(letter.at)}`,
    `Message-ID: ${messageIdOf(letter)}`,
    // RFC 3834 §5: nobody is to answer it.
    'Auto-Submitted: auto-generated',
    'MIME-Version: 1.0',
    'Content-Type: text/plain; charset=us-ascii',
    '',
    'This is a test message from the mail server.',
    '.',
  ].join('\r\n');
