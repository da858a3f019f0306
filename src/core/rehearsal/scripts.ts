import type { ClientService } from '../records/sheet.ts';

/** One exchange: what has to come, and what is said then. */
export interface Exchange {
  /** What the other side has to have said; null waits for nothing. */
  expect: RegExp | null;
  /** What is said, and how it is shown where a password is in it. */
  say: { text: string; shown?: string } | null;
}

/** A step that is talk only. */
export interface TalkStep {
  key: string;
  name: string;
  exchanges: Exchange[];
  seen: string;
  /** What to do when something else was said. */
  action: string;
}

const say = (text: string, shown?: string): Exchange['say'] => ({ text: `${text}\r\n`, ...(shown === undefined ? {} : { shown }) });
const plain = (user: string, pass: string): string => Buffer.from(`\0${user}\0${pass}`).toString('base64');
const HIDDEN = '(the pass)';

/** What is said before TLS begins, where it does not begin at once (RFC 3501 §6.2.1, RFC 2595 §4, RFC 3207). */
export function startTlsExchanges(service: ClientService, heloName: string): Exchange[] | null {
  if (service === 'imap')
    return [
      { expect: /^\* OK .*\r\n/, say: say('t1 STARTTLS') },
      { expect: /^t1 OK .*\r\n/m, say: null },
    ];
  if (service === 'pop3')
    return [
      { expect: /^\+OK.*\r\n/, say: say('STLS') },
      { expect: /^\+OK.*\r\n/, say: null },
    ];
  if (service === 'submission')
    return [
      { expect: /^220 .*\r\n/m, say: say(`EHLO ${heloName}`) },
      { expect: /^250 .*\r\n/m, say: say('STARTTLS') },
      { expect: /^220 .*\r\n/m, say: null },
    ];
  return null;
}

/** The steps of a mail program under TLS: it signs in, and looks at what it would work with. */
export function signInSteps(
  service: ClientService,
  { user, pass, heloName }: { user: string; pass: string; heloName: string },
): TalkStep[] {
  const isBare = service === 'imap' || service === 'pop3' || service === 'submission';
  const refused = 'See why: tenedor mailbox sign-ins, and tenedor mailbox show for what this mailbox lets in.';
  if (service === 'imaps' || service === 'imap')
    return [
      {
        key: 'sign-in',
        name: 'signs in',
        exchanges: [
          ...(isBare ? [] : [{ expect: /^\* OK .*\r\n/, say: null }]),
          { expect: null, say: say(`t2 AUTHENTICATE PLAIN ${plain(user, pass)}`, `t2 AUTHENTICATE PLAIN ${HIDDEN}`) },
          { expect: /^t2 OK .*\r\n/m, say: null },
        ],
        seen: `signed in as ${user}`,
        action: refused,
      },
      {
        key: 'folders',
        name: 'sees the folders, and opens the Inbox',
        exchanges: [
          { expect: null, say: say('t3 LIST "" "*"') },
          { expect: /^t3 OK .*\r\n/m, say: say('t4 EXAMINE INBOX') },
          { expect: /^t4 OK .*\r\n/m, say: say('t5 LOGOUT') },
          { expect: /^\* BYE .*\r\n/m, say: null },
        ],
        seen: 'the folders are listed, and the Inbox opens',
        action: 'Look at its folders: tenedor mailbox show',
      },
    ];
  if (service === 'pop3s' || service === 'pop3')
    return [
      {
        key: 'sign-in',
        name: 'signs in',
        exchanges: [
          ...(isBare ? [] : [{ expect: /^\+OK.*\r\n/, say: null }]),
          { expect: null, say: say(`AUTH PLAIN ${plain(user, pass)}`, `AUTH PLAIN ${HIDDEN}`) },
          { expect: /^\+OK.*\r\n/, say: null },
        ],
        seen: `signed in as ${user}`,
        action: `${refused} A mailbox is open to one POP3 program at a time.`,
      },
      {
        key: 'folders',
        name: 'sees how much there is',
        exchanges: [
          { expect: null, say: say('STAT') },
          { expect: /^\+OK \d+ \d+.*\r\n/, say: say('QUIT') },
          { expect: /^\+OK.*\r\n/, say: null },
        ],
        seen: 'the Inbox is counted',
        action: 'Look at its folders: tenedor mailbox show',
      },
    ];
  return [
    {
      key: 'sign-in',
      name: 'signs in',
      exchanges: [
        ...(isBare ? [] : [{ expect: /^220 .*\r\n/m, say: null }]),
        { expect: null, say: say(`EHLO ${heloName}`) },
        { expect: /^250 .*\r\n/m, say: say(`AUTH PLAIN ${plain(user, pass)}`, `AUTH PLAIN ${HIDDEN}`) },
        { expect: /^235 .*\r\n/m, say: null },
      ],
      seen: `signed in as ${user}`,
      action: refused,
    },
    {
      key: 'sender',
      name: 'may send to itself, up to the message',
      exchanges: [
        { expect: null, say: say(`MAIL FROM:<${user}>`) },
        { expect: /^250 .*\r\n/m, say: say(`RCPT TO:<${user}>`) },
        // Nothing is sent: the envelope is given up (RFC 5321 §4.1.1.5).
        { expect: /^250 .*\r\n/m, say: say('RSET') },
        { expect: /^250 .*\r\n/m, say: say('QUIT') },
        { expect: /^221 .*\r\n/m, say: null },
      ],
      seen: 'sender and recipient are taken; nothing was sent',
      action: 'See what would be said, and why: tenedor explain',
    },
  ];
}
