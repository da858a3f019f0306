import type { ClientService } from '../records/sheet.ts';

/** One exchange: what has to come, and what is said then. */
export interface Exchange {
  /** What the other side has to have said; null waits for nothing. */
  expect: RegExp | null;
  /** What is a fault at once, where it is not what refuses. */
  unless?: RegExp;
  /** What is said, and how it is shown where a password is in it. */
  say: { text: string; shown?: string } | null;
  /** What the other side says is a reply of SMTP: one to each command, as whoever sends mail demands it. */
  isReply?: true;
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
const smtp = (exchanges: readonly Exchange[]): Exchange[] => exchanges.map((one) => ({ ...one, isReply: true }));

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
    return smtp([
      { expect: /^220 .*\r\n/m, say: say(`EHLO ${heloName}`) },
      { expect: /^250 .*\r\n/m, say: say('STARTTLS') },
      { expect: /^220 .*\r\n/m, say: null },
    ]);
  return null;
}

/** The steps of a mail program under TLS: it signs in, and looks at what it would work with. */
export function signInSteps(
  service: ClientService,
  { user, pass, heloName }: { user: string; pass: string; heloName: string },
): TalkStep[] {
  const isBare = service === 'imap' || service === 'pop3' || service === 'submission';
  const refused = 'See why: tenedor mailbox sign-ins. See its settings: tenedor mailbox show.';
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
        action: 'Check its folders: tenedor mailbox show',
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
        name: 'counts the Inbox',
        exchanges: [
          { expect: null, say: say('STAT') },
          { expect: /^\+OK \d+ \d+.*\r\n/, say: say('QUIT') },
          { expect: /^\+OK.*\r\n/, say: null },
        ],
        seen: 'the Inbox is counted',
        action: 'Check its folders: tenedor mailbox show',
      },
    ];
  return [
    {
      key: 'sign-in',
      name: 'signs in',
      exchanges: smtp([
        ...(isBare ? [] : [{ expect: /^220 .*\r\n/m, say: null }]),
        { expect: null, say: say(`EHLO ${heloName}`) },
        { expect: /^250 .*\r\n/m, say: say(`AUTH PLAIN ${plain(user, pass)}`, `AUTH PLAIN ${HIDDEN}`) },
        { expect: /^235 .*\r\n/m, say: null },
      ]),
      seen: `signed in as ${user}`,
      action: refused,
    },
    {
      key: 'sender',
      name: 'sends to itself, up to the message',
      exchanges: smtp([
        { expect: null, say: say(`MAIL FROM:<${user}>`) },
        { expect: /^250 .*\r\n/m, say: say(`RCPT TO:<${user}>`) },
        // Nothing is sent: the envelope is given up (RFC 5321 §4.1.1.5).
        { expect: /^250 .*\r\n/m, say: say('RSET') },
        { expect: /^250 .*\r\n/m, say: say('QUIT') },
        { expect: /^221 .*\r\n/m, say: null },
      ]),
      seen: 'sender and recipient accepted; nothing was sent',
      action: 'See the reply and its reason: tenedor explain',
    },
  ];
}

/** What another server says first, with the name that this one has for it. */
export const greetingExchanges = (heloName: string): Exchange[] =>
  smtp([
    { expect: /^220 .*\r\n/m, say: say(`EHLO ${heloName}`) },
    { expect: /^250 .*\r\n/m, say: null },
  ]);
export const serverTlsExchanges = smtp([
  { expect: null, say: say('STARTTLS') },
  { expect: /^220 .*\r\n/m, say: null },
]);

/** RFC 5321 §4.2.3: 251 takes a recipient, too, and passes it on. */
const TAKEN = /^25[01] .*\r\n/m;

/** A message for somebody, up to its text; nothing is sent (RFC 5321 §4.1.1.5). */
export const recipientExchanges = (address: string, heloName: string | null, sender = ''): Exchange[] =>
  smtp([
    ...(heloName === null
      ? []
      : [
          { expect: null, say: say(`EHLO ${heloName}`) },
          { expect: /^250 .*\r\n/m, say: null },
        ]),
    { expect: null, say: say(`MAIL FROM:<${sender}>`) },
    { expect: /^250 .*\r\n/m, say: say(`RCPT TO:<${address}>`) },
    { expect: TAKEN, say: say('RSET') },
    { expect: /^250 .*\r\n/m, say: null },
  ]);

/** A whole message of one who has signed in; `text` ends with its dot. */
export const letterExchanges = (from: string, to: string, text: string): Exchange[] =>
  smtp([
    { expect: null, say: say(`MAIL FROM:<${from}>`) },
    { expect: /^250 .*\r\n/m, say: say(`RCPT TO:<${to}>`) },
    { expect: TAKEN, say: say('DATA') },
    { expect: /^354 .*\r\n/m, say: say(text) },
    { expect: /^250 .*\r\n/m, say: null },
  ]);

/** The Inbox, to change it. */
export const openInboxExchanges: Exchange[] = [
  { expect: null, say: say('t6 SELECT INBOX') },
  { expect: /^t6 OK .*\r\n/m, say: null },
];
/** Looks for a message; the answer has its number. */
export const foundExchanges = (messageId: string): Exchange[] => [
  { expect: null, say: say(`t7 UID SEARCH HEADER Message-ID "${messageId}"`) },
  { expect: /^t7 OK .*\r\n/m, say: null },
];
/** Takes one message away, and no other (RFC 4315 §2.1). */
export const removeExchanges = (uid: string): Exchange[] => [
  { expect: null, say: say(`t8 UID STORE ${uid} +FLAGS.SILENT (\\Deleted)`) },
  { expect: /^t8 OK .*\r\n/m, say: say(`t9 UID EXPUNGE ${uid}`) },
  { expect: /^t9 OK .*\r\n/m, say: say('t10 LOGOUT') },
  { expect: /^\* BYE .*\r\n/m, say: null },
];

/** A name that is nobody’s (RFC 6761 §6.4). */
const STRANGER = 'stranger@rehearsal.invalid';
/**
 * Recipients elsewhere, as they are written by who looks for a server that passes on mail of anybody (RFC 5321 §3.6, §4.1.1.3). Where a domain takes every
 * local part, one that only looks like an address elsewhere says nothing.
 */
const elsewhere = (domain: string, takesAll: boolean): string[] => [
  STRANGER,
  `@${domain}:${STRANGER}`,
  ...(takesAll ? [] : [`${STRANGER.replace('@', '%')}@${domain}`, `"${STRANGER}"@${domain}`, `rehearsal.invalid!stranger@${domain}`]),
];

/** Tries to have mail for strangers passed on; each is to be refused. */
export const relayExchanges = (domain: string, takesAll: boolean): Exchange[] =>
  smtp([
    { expect: null, say: say('MAIL FROM:<>') },
    ...elsewhere(domain, takesAll).flatMap((one, at): Exchange[] => [
      {
        expect: at === 0 ? /^250 .*\r\n/m : /^[45]\d\d .*\r\n/m,
        ...(at === 0 ? {} : { unless: /^25\d .*\r\n/m }),
        say: say(`RCPT TO:<${one}>`),
      },
    ]),
    { expect: /^[45]\d\d .*\r\n/m, unless: /^25\d .*\r\n/m, say: say('QUIT') },
  ]);
