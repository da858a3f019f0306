import type { ReportAction } from '../../core/vocabulary.ts';

interface ReportText {
  subject: (who: string) => string;
  /** Before the recipients. */
  before: string;
  /** After them; `id` is the message’s journey. */
  after: (id: string) => string;
}

/** What a sender reads in a delivery report (RFC 3464 §1), by what became of the recipients. */
export const REPORT_TEXTS: Record<ReportAction, ReportText> = {
  failed: {
    subject: (who) => `Your message did not reach ${who}`,
    before: 'Your message could not be delivered to:',
    after: (id) => `It will not be tried again. If you have questions, ask your provider about\r\njourney ${id}.`,
  },
  delayed: {
    subject: (who) => `Your message to ${who} is still waiting`,
    before: 'Your message could not be delivered yet to:',
    after: (id) => `It will be tried again automatically; you do not need to do anything.\r\nYour provider knows it as journey ${id}.`,
  },
  delivered: {
    subject: (who) => `Your message was delivered to ${who}`,
    before: 'You asked for a notification. Your message is in the mailbox of',
    after: (id) => `Your provider knows it as journey ${id}.`,
  },
  relayed: {
    subject: (who) => `Your message was passed on to ${who}`,
    before: 'You asked for a notification. Your message was passed on to a server that\r\ndoes not report deliveries, for',
    after: (id) => `There will be no further reports. Your provider knows it as journey ${id}.`,
  },
  expanded: {
    subject: (who) => `Your message reached the list ${who}`,
    before: 'You asked for a notification. Your message was sent to all members of',
    after: (id) => `Your provider knows it as journey ${id}.`,
  },
};

export const severalRecipients = (count: number): string => `${count} recipients`;
