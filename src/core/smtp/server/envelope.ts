import type { Address } from '../../address/mailbox-address.ts';

/** What MAIL may say besides the sender. */
export interface MailParameters {
  size: number | null;
  body: '7BIT' | '8BITMIME';
  /** RFC 6531 §3.4 */
  smtputf8: boolean;
  /** RFC 3461 §4.3: what a failure report is to return. */
  returnContent: 'FULL' | 'HDRS' | null;
  /** RFC 3461 §4.4, still in xtext. */
  envelopeId: string | null;
}

export const NOTIFY_WORDS = ['NEVER', 'SUCCESS', 'FAILURE', 'DELAY'] as const;

/** What RCPT may say besides the recipient. */
export interface RecipientParameters {
  /** RFC 3461 §4.1: when to report; null leaves it to us. */
  notify: (typeof NOTIFY_WORDS)[number][] | null;
  /** RFC 3461 §4.2: `type;address`, the address still in xtext. */
  original: string | null;
}

export const NO_MAIL_PARAMETERS: MailParameters = { size: null, body: '7BIT', smtputf8: false, returnContent: null, envelopeId: null };
export const NO_RECIPIENT_PARAMETERS: RecipientParameters = { notify: null, original: null };

/**
 * One message under way: who it is from, and what was asked for it. The session, the conversation that decides and its transaction hold the same one,
 * and whoever has waited for something asks it whether the message is still wanted.
 */
export class Envelope {
  /** Recipients that were accepted. */
  recipients = 0;
  private wanted = true;

  constructor(
    readonly sender: Address | null,
    readonly parameters: MailParameters = NO_MAIL_PARAMETERS,
  ) {}

  /** Whether the message is still under way: neither taken, nor given up, nor was the client sent away. */
  get isOpen(): boolean {
    return this.wanted;
  }

  end(): void {
    this.wanted = false;
  }
}
