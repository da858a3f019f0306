import { describe, expect, it } from 'vitest';
import type { PopOutput } from '../../../src/core/pop3/intents.ts';
import { PopSession } from '../../../src/core/pop3/session.ts';
import { OctetBudget } from '../../../src/core/smtp/octet-budget.ts';
import { REPLIES } from '../../../src/core/smtp/replies.ts';
import type { Output, SessionSettings } from '../../../src/core/smtp/server/intents.ts';
import { ServerSession } from '../../../src/core/smtp/server/session.ts';

/** Whole conversations, as the wire shows them: what is said, with what is decided on beside it. */

const SETTINGS: SessionSettings = {
  hostName: 'mail.host.example',
  service: 'inbound',
  maxMessageBytes: 5000,
  maxRecipients: 3,
  tlsOffered: true,
  secure: false,
};

/** What a session says to lines of a client, a code each; what it asks for is in angle brackets, and is granted unless it holds `no`. */
function said(lines: (string | Buffer)[], settings: Partial<SessionSettings> = {}): string {
  const session = new ServerSession({ ...SETTINGS, ...settings });
  const words: string[] = [];
  const take = (outputs: Output[]): void => {
    for (const output of outputs) {
      if (output.kind === 'send')
        words.push(
          ...output.text
            .split('\r\n')
            .filter((line) => /^\d{3} /.test(line))
            .map((line) =>
              line
                .slice(0, 9)
                .replace(/^(\d{3}) (?!\d\.\d\.).*/, '$1')
                .trim(),
            ),
        );
      else if (output.kind === 'ask') {
        const { intent } = output;
        words.push(
          `<${intent.kind}${intent.kind === 'message' ? ` ${intent.content.length}` : intent.kind === 'sign-in' ? ` ${intent.user} ${intent.password}` : ''}>`,
        );
        const accepted = !JSON.stringify(intent).includes('"no"');
        take(session.answer({ accepted, reply: accepted ? REPLIES.ok : { code: 550, status: '5.1.1', text: 'no' } }));
      } else words.push(`(${output.kind})`);
      if (output.kind === 'start-tls') session.tlsStarted();
    }
  };
  for (const line of lines) {
    take(session.receive(typeof line === 'string' ? Buffer.from(`${line}\r\n`, 'latin1') : line));
    take(session.proceed());
  }
  words.push(
    `| ${session.protocol}${session.receivingMessage ? ' receiving' : ''}${session.waiting > 0 ? ` ${session.waiting} wait` : ''}`,
  );
  return words.join(' ');
}
const HELLO = 'EHLO c.example';
const MAIL = 'MAIL FROM:<a@b.example>';
const RCPT = 'RCPT TO:<c@d.example>';
const SUBMISSION = { service: 'submission', secure: true } as const;
const base64 = (text: string): string => Buffer.from(text).toString('base64');
const blankFirst = (blank: string): string[] => [HELLO, MAIL, RCPT, 'DATA', `${blank}x: y`, '', '.'];

describe('SMTP', () => {
  it.each<[string, (string | Buffer)[], string, Partial<SessionSettings>?]>([
    [
      'a message',
      [HELLO, MAIL, RCPT, 'DATA', 'Subject: x', '', 'hi', '.', 'QUIT'],
      '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 354 <message 18> 250 2.0.0 221 2.0.0 (close) | ESMTP',
    ],
    ['HELO alone', ['HELO c.example', MAIL], '250 <sender> 250 2.0.0 | SMTP'],
    [
      'UTF8 asked for',
      [HELLO, `${MAIL} SMTPUTF8`, 'RCPT TO:<\u00c3\u00b1@d.example>'],
      '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 | UTF8SMTP',
    ],
    ['UTF8 not asked for', [HELLO, MAIL, 'RCPT TO:<\u00c3\u00b1@d.example>'], '250 <sender> 250 2.0.0 553 5.6.7 | ESMTP'],
    [
      'a sender that is refused begins nothing',
      [HELLO, 'MAIL FROM:<no@b.example>', RCPT, 'DATA'],
      '250 <sender> 550 5.1.1 503 5.5.1 503 5.5.1 | ESMTP',
    ],
    [
      'a recipient that is refused is none',
      [HELLO, MAIL, 'RCPT TO:<no@d.example>', 'DATA'],
      '250 <sender> 250 2.0.0 <recipient> 550 5.1.1 554 5.5.1 | ESMTP',
    ],
    [
      'RSET gives up',
      [HELLO, MAIL, RCPT, 'RSET', RCPT, 'RSET'],
      '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 (abandon) 250 2.0.0 503 5.5.1 250 2.0.0 | ESMTP',
    ],
    ['EHLO gives up as well', [HELLO, MAIL, HELLO, MAIL], '250 <sender> 250 2.0.0 (abandon) 250 <sender> 250 2.0.0 | ESMTP'],
    ['QUIT in the middle', [HELLO, MAIL, 'QUIT', 'NOOP'], '250 <sender> 250 2.0.0 221 2.0.0 (abandon) (close) | ESMTP'],
    [
      'more recipients than are taken',
      [HELLO, MAIL, RCPT, RCPT, RCPT, RCPT],
      '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 <recipient> 250 2.0.0 <recipient> 250 2.0.0 452 4.5.3 | ESMTP',
    ],
    ['a size at the limit, and over it', [HELLO, `${MAIL} SIZE=5001`, `${MAIL} SIZE=5000`], '250 552 5.3.4 <sender> 250 2.0.0 | ESMTP'],
    [
      'chunks',
      [HELLO, MAIL, RCPT, 'BDAT 5', Buffer.from('x: y\r'), Buffer.from('BDAT 1 LAST\r\n\n'), MAIL],
      '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 250 2.0.0 <message 6> 250 2.0.0 <sender> 250 2.0.0 | ESMTP',
    ],
    [
      'an empty last chunk',
      [HELLO, MAIL, RCPT, 'BDAT 6', Buffer.from('x: y\r\n'), 'BDAT 0 LAST'],
      '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 250 2.0.0 <message 6> 250 2.0.0 | ESMTP',
    ],
    [
      'DATA among chunks',
      [HELLO, MAIL, RCPT, 'BDAT 2', Buffer.from('x:'), 'DATA'],
      '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 250 2.0.0 503 5.5.1 | ESMTP receiving',
    ],
    ['a chunk without a sender', [HELLO, 'BDAT 4', Buffer.from('abcd'), 'NOOP'], '250 503 5.5.1 250 2.0.0 | ESMTP'],
    [
      'a chunk without a recipient',
      [HELLO, MAIL, 'BDAT 4 LAST', Buffer.from('abcd'), 'NOOP'],
      '250 <sender> 250 2.0.0 554 5.5.1 250 2.0.0 | ESMTP',
    ],
    [
      'chunks that are too big',
      [HELLO, MAIL, RCPT, 'BDAT 5001 LAST', Buffer.alloc(5001, 120), 'NOOP'],
      '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 (abandon) 552 5.3.4 250 2.0.0 | ESMTP',
    ],
    ['a text that begins with a blank', blankFirst(' '), '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 354 (abandon) 554 5.6.0 | ESMTP'],
    ['a text that begins with a tab', blankFirst('\t'), '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 354 (abandon) 554 5.6.0 | ESMTP'],
    [
      'a text with NUL',
      [HELLO, MAIL, RCPT, 'DATA', 'x: y\0', '.'],
      '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 354 (abandon) 554 5.6.0 | ESMTP',
    ],
    [
      'fifty hops',
      [HELLO, MAIL, RCPT, 'DATA', ...Array.from({ length: 50 }, () => 'Received: x'), '', '.'],
      '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 354 <message 652> 250 2.0.0 | ESMTP',
    ],
    [
      'fifty-one hops',
      [HELLO, MAIL, RCPT, 'DATA', ...Array.from({ length: 51 }, () => 'Received: x'), '', '.'],
      '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 354 (abandon) 554 5.4.6 | ESMTP',
    ],
    [
      'as many fields as are read',
      [HELLO, MAIL, RCPT, 'DATA', ...Array.from({ length: 2000 }, () => 'a:'), '', '.'],
      '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 354 <message 8002> 250 2.0.0 | ESMTP',
      { maxMessageBytes: 9000 },
    ],
    [
      'one field more',
      [HELLO, MAIL, RCPT, 'DATA', ...Array.from({ length: 2001 }, () => 'a:'), '', '.'],
      '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 354 (abandon) 554 5.6.0 | ESMTP',
      { maxMessageBytes: 9000 },
    ],
    ['in the middle of a text', [HELLO, MAIL, RCPT, 'DATA', 'x: y'], '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 354 | ESMTP receiving'],
    ['half a line waits', [HELLO, Buffer.from('NOO')], '250 | ESMTP 3 wait'],
    ['a line end without CR', [Buffer.from('EHLO c.example\nNOOP\n')], '250 250 2.0.0 | ESMTP'],
    ['words that do nothing', [HELLO, 'HELP', 'VRFY ana', 'NOOP x'], '250 214 2.0.0 252 2.5.0 250 2.0.0 | ESMTP'],
    [
      'ETRN before EHLO, within a transaction, and is installed',
      ['ETRN d.example', HELLO, MAIL, 'ETRN d.example', 'RSET', 'ETRN d.example'],
      '503 5.5.1 250 <sender> 250 2.0.0 503 5.5.1 (abandon) 250 2.0.0 <start-queue> 250 2.0.0 | ESMTP',
    ],
    ['ETRN on submission', [HELLO, 'ETRN d.example'], '250 500 5.5.2 | ESMTPS', SUBMISSION],
    [
      'STARTTLS',
      [HELLO, MAIL, 'STARTTLS', MAIL, HELLO, 'STARTTLS', MAIL],
      '250 <sender> 250 2.0.0 (abandon) 220 2.0.0 (start-tls) 503 5.5.1 250 503 5.5.1 <sender> 250 2.0.0 | ESMTPS',
    ],
    ['STARTTLS where there is none', [HELLO, 'STARTTLS'], '250 502 5.5.1 | ESMTP', { tlsOffered: false }],
    [
      'submission without TLS',
      [HELLO, MAIL, `AUTH PLAIN ${base64('\0u\0p')}`],
      '250 530 5.7.0 (sign-in-in-clear) 538 5.7.1 | ESMTP',
      { service: 'submission' },
    ],
    ['submission without signing in', [HELLO, MAIL], '250 530 5.7.0 | ESMTPS', SUBMISSION],
    ['submission from a network that may', [HELLO, MAIL], '250 <sender> 250 2.0.0 | ESMTP', { service: 'submission', trusted: true }],
    ['AUTH before EHLO', ['AUTH PLAIN'], '503 5.5.1 | SMTP', SUBMISSION],
    [
      'AUTH PLAIN in one line',
      [HELLO, `AUTH PLAIN ${base64('\0u\0p')}`, MAIL, 'AUTH PLAIN'],
      '250 <sign-in u p> 250 2.0.0 <sender> 250 2.0.0 503 5.5.1 | ESMTPSA',
      SUBMISSION,
    ],
    ['AUTH PLAIN in two', [HELLO, 'AUTH PLAIN', base64('\0u\0p')], '250 334 <sign-in u p> 250 2.0.0 | ESMTPSA', SUBMISSION],
    ['AUTH LOGIN', [HELLO, 'AUTH LOGIN', base64('u'), base64('p')], '250 334 334 <sign-in u p> 250 2.0.0 | ESMTPSA', SUBMISSION],
    [
      'AUTH LOGIN with the user at once',
      [HELLO, `AUTH LOGIN ${base64('u')}`, base64('p')],
      '250 334 <sign-in u p> 250 2.0.0 | ESMTPSA',
      SUBMISSION,
    ],
    ['AUTH LOGIN with an empty user', [HELLO, 'AUTH LOGIN =', base64('p')], '250 334 <sign-in  p> 250 2.0.0 | ESMTPSA', SUBMISSION],
    [
      'AUTH that is refused',
      [HELLO, `AUTH PLAIN ${base64('\0no\0p')}`, MAIL],
      '250 <sign-in no p> 550 5.1.1 530 5.7.0 | ESMTPS',
      SUBMISSION,
    ],
    ['AUTH that is given up', [HELLO, 'AUTH LOGIN', '*', 'NOOP'], '250 334 501 5.0.0 250 2.0.0 | ESMTPS', SUBMISSION],
    ['AUTH that is no base64', [HELLO, 'AUTH LOGIN', '?', 'AUTH PLAIN ?'], '250 334 501 5.5.2 501 5.5.2 | ESMTPS', SUBMISSION],
    ['AUTH by a mechanism that nobody knows', [HELLO, 'AUTH SCRAM-SHA-1'], '250 504 5.5.4 | ESMTPS', SUBMISSION],
    [
      'AUTH within a transaction',
      [HELLO, MAIL, 'AUTH PLAIN'],
      '250 <sender> 250 2.0.0 503 5.5.1 | ESMTPS',
      { ...SUBMISSION, trusted: true },
    ],
    [
      'a postmaster of other addresses',
      [HELLO, MAIL, 'RCPT TO:<postmaster@[192.0.2.25]>', 'RCPT TO:<postmaster@[192.0.2.26]>'],
      '250 <sender> 250 2.0.0 <recipient> 250 2.0.0 553 5.1.3 | ESMTP',
      { addresses: ['192.0.2.25'] },
    ],
    [
      'a postmaster of an address where we have none',
      [HELLO, MAIL, 'RCPT TO:<postmaster@[192.0.2.25]>'],
      '250 <sender> 250 2.0.0 553 5.1.3 | ESMTP',
    ],
    [
      'senders and recipients that are none',
      [HELLO, 'MAIL FROM:<a..b@c.example>', MAIL, 'RCPT TO:<a..b@c.example>', 'RCPT c'],
      '250 553 5.1.7 <sender> 250 2.0.0 553 5.1.3 501 5.5.4 | ESMTP',
    ],
    [
      'the ninth mistake is borne, the tenth is not',
      ['x', 'x', 'x', 'x', 'x', 'x', 'x', 'x', 'x', HELLO, 'x', 'NOOP'],
      `${'500 5.5.2 '.repeat(9)}250 500 5.5.2 421 4.7.0 (close) | ESMTP`,
    ],
  ])('%s', (_what, lines, expected, settings) => {
    expect(said(lines, settings)).toBe(expected);
  });

  it('EHLO offers what can be used, and the last line ends the list', () => {
    const offers = (settings: Partial<SessionSettings>): string[] => {
      const session = new ServerSession({ ...SETTINGS, ...settings });
      const [output] = session.receive(Buffer.from('EHLO c.example\r\n'));
      return output?.kind === 'send' ? output.text.trimEnd().split('\r\n') : [];
    };
    const always = [
      '250-mail.host.example greets you',
      '250-PIPELINING',
      '250-SIZE 5000',
      '250-8BITMIME',
      '250-ENHANCEDSTATUSCODES',
      '250-DSN',
      '250-SMTPUTF8',
    ];
    expect(offers({})).toEqual([...always, '250-CHUNKING', '250-ETRN', '250 STARTTLS']);
    expect(offers({ secure: true })).toEqual([...always, '250-CHUNKING', '250 ETRN']);
    expect(offers({ service: 'submission' })).toEqual([...always, '250-CHUNKING', '250 STARTTLS']);
    expect(offers(SUBMISSION)).toEqual([...always, '250-CHUNKING', '250 AUTH PLAIN LOGIN']);
    expect(offers({ tlsOffered: false, service: 'submission' })).toEqual([...always, '250 CHUNKING']);
  });

  it('waits for the greeting: who speaks before it gets one reply and no more', () => {
    const session = new ServerSession(SETTINGS);
    session.awaitGreeting(REPLIES.busy);
    expect(session.receive(Buffer.from('EHLO x\r\n')).map((one) => one.kind)).toEqual(['spoke-early', 'send', 'close']);
    expect([session.greet(), session.receive(Buffer.from('NOOP\r\n')), session.end(REPLIES.busy)]).toEqual([[], [], []]);
    const patient = new ServerSession(SETTINGS);
    patient.awaitGreeting(REPLIES.busy);
    expect(patient.greet()).toEqual([{ kind: 'send', text: expect.stringMatching(/^220 mail\.host\.example /) }]);
    expect(patient.receive(Buffer.from('NOOP\r\n'))).toHaveLength(1);
    expect(patient.end(REPLIES.busy).map((one) => one.kind)).toEqual(['send', 'close']);
  });

  it('reads no further than its own words have gone', () => {
    const session = new ServerSession(SETTINGS);
    const many = Buffer.from('HELP\r\n'.repeat(2000));
    const first = session.receive(many).length;
    expect(first).toBeLessThan(2000);
    expect(session.waiting).toBe(many.length - first * 6);
    expect(session.proceed().length).toBe(first);
  });

  it('a text holds its octets while it is decided on, and gives them up when others need them', () => {
    const clock = { now: 0 };
    const budget = new OctetBudget(2 * 1024 * 1024, () => clock.now);
    const begin = (): ServerSession => {
      const session = new ServerSession({ ...SETTINGS, maxMessageBytes: 4 * 1024 * 1024, budget });
      session.receive(Buffer.from(`${HELLO}\r\n${MAIL}\r\n`));
      session.answer({ accepted: true, reply: REPLIES.ok });
      session.receive(Buffer.from(`${RCPT}\r\n`));
      session.answer({ accepted: true, reply: REPLIES.ok });
      session.receive(Buffer.from('DATA\r\n'));
      return session;
    };
    const text = Buffer.from(`x: y\r\n\r\n${`${'x'.repeat(998)}\r\n`.repeat(1000)}`);
    const one = begin();
    one.receive(text);
    expect(budget.used).toBeGreaterThanOrEqual(text.length);
    const [asked] = one.receive(Buffer.from('.\r\n'));
    expect(asked).toMatchObject({ kind: 'ask', intent: { kind: 'message' } });
    one.gone();
    // The decision is under way: its text is needed until it is there.
    expect(budget.used).toBeGreaterThanOrEqual(text.length);
    expect(one.answer({ accepted: true, reply: REPLIES.ok })).toEqual([]);
    expect(budget.used).toBe(0);
    const slow = begin();
    slow.receive(text);
    clock.now = 20_000;
    const next = begin();
    next.receive(text);
    next.receive(text.subarray(0, 500_000));
    expect(slow.receive(Buffer.from('.\r\n')).find((output) => output.kind === 'send')).toMatchObject({
      text: expect.stringMatching(/^452 4\.3\.1/),
    });
    next.gone();
    expect(budget.used).toBe(0);
  });
});

describe('POP3', () => {
  const MESSAGES = [
    { id: 11, size: 120, uid: 'm11' },
    { id: 12, size: 200, uid: 'm12' },
  ];
  /** What is said, the first words of each line; what is asked for in angle brackets. */
  function heard(
    lines: (string | Buffer)[],
    settings: { tlsOffered?: boolean; secure?: boolean } = {},
    remove: 'removed' | 'refused' = 'removed',
  ): string {
    const session = new PopSession({ hostName: 'h.example', tlsOffered: true, secure: true, ...settings });
    const words: string[] = [];
    const take = (outputs: PopOutput[]): void => {
      for (const output of outputs) {
        if (output.kind === 'send')
          words.push(
            output.bytes
              .toString()
              .trimEnd()
              .replaceAll('\r\n', '/')
              .replace(/^(\+OK|-ERR)( \[[A-Z/-]+\])?( \d+( \S+)?)?( .*)?$/, '$1$2$3'),
          );
        else if (output.kind === 'text') words.push(`{${output.lines ?? 'all'}}`);
        else if (output.kind === 'start-tls') {
          words.push('(tls)');
          session.tlsStarted();
        } else if (output.kind !== 'ask') words.push(`(${output.kind})`);
        else {
          const { intent } = output;
          words.push(
            `<${intent.kind}${intent.kind === 'sign-in' ? ` ${intent.user} ${intent.password}` : ''}${intent.kind === 'remove' ? ` ${intent.ids.join()}` : ''}>`,
          );
          if (intent.kind === 'sign-in')
            take(
              session.answer(
                intent.password === 'right' ? { kind: 'opened', messages: MESSAGES } : { kind: 'refused', code: 'AUTH', text: 'no' },
              ),
            );
          else if (intent.kind === 'read') take(session.answer({ kind: 'content' }));
          else take(session.answer(remove === 'removed' ? { kind: 'removed' } : { kind: 'refused', code: 'SYS/TEMP', text: 'later' }));
        }
      }
    };
    for (const line of lines) {
      take(session.receive(typeof line === 'string' ? Buffer.from(`${line}\r\n`, 'latin1') : line));
      take(session.proceed());
    }
    return words.join(' ');
  }
  const IN = ['USER u', 'PASS right'];
  const OPEN = '+OK <sign-in u right> +OK 2 messages';
  it.each<[string, (string | Buffer)[], string, Parameters<typeof heard>[1]?]>([
    [
      'a whole visit',
      [...IN, 'STAT', 'RETR 1', 'TOP 2 3', 'DELE 1', 'QUIT'],
      `${OPEN} +OK 2 320 <read> +OK {all} <read> +OK {3} +OK <remove 11> +OK (close)`,
    ],
    ['nothing deleted', [...IN, 'QUIT', 'NOOP'], `${OPEN} +OK (close)`],
    ['deleted and taken back', [...IN, 'DELE 1', 'RSET', 'QUIT'], `${OPEN} +OK +OK +OK (close)`],
    ['before signing in', ['STAT', 'DELE 1', 'NOOP', 'QUIT'], '-ERR -ERR -ERR +OK (close)'],
    ['a wrong password', ['USER u', 'PASS wrong', ...IN], `+OK <sign-in u wrong> -ERR [AUTH] ${OPEN}`],
    ['PASS without USER', ['PASS right', 'USER', 'USER  u ', 'PASS  right'], '-ERR -ERR +OK <sign-in u  right> -ERR [AUTH]'],
    [
      'no password without TLS',
      ['USER u', 'PASS right', `AUTH PLAIN ${base64('\0u\0right')}`],
      '(sign-in-in-clear) -ERR (sign-in-in-clear) -ERR (sign-in-in-clear) -ERR',
      { secure: false },
    ],
    ['STLS', ['STLS', ...IN, 'STLS'], `+OK (tls) ${OPEN} -ERR`, { secure: false }],
    ['STLS under TLS', ['STLS'], '-ERR'],
    ['STLS where there is none', ['STLS'], '-ERR', { secure: false, tlsOffered: false }],
    ['AUTH PLAIN', [`AUTH PLAIN ${base64('\0u\0right')}`, 'STAT'], '<sign-in u right> +OK 2 messages +OK 2 320'],
    ['AUTH PLAIN in two lines', ['AUTH PLAIN', base64('\0u\0right')], '+ <sign-in u right> +OK 2 messages'],
    ['AUTH given up, broken, unknown', ['AUTH PLAIN', '*', 'AUTH PLAIN ?', 'AUTH LOGIN', 'NOOP'], '+ -ERR -ERR -ERR -ERR'],
    [
      'numbers that are none',
      [...IN, 'RETR', 'RETR 0', 'RETR 3', 'RETR x1', 'RETR 1x', 'LIST 9', 'UIDL x', 'TOP 1', 'TOP 1 x'],
      `${OPEN} ${'-ERR '.repeat(9).trim()}`,
    ],
    [
      'numbers of two digits and blanks around them',
      [...IN, 'LIST  1 ', 'UIDL 2', 'TOP 1  0', 'LIST 12'],
      `${OPEN} +OK 1 120 +OK 2 m12 <read> +OK {0} -ERR`,
    ],
    ['what was deleted is gone', [...IN, 'DELE 1', 'DELE 1', 'RETR 1', 'STAT'], `${OPEN} +OK -ERR -ERR +OK 1 200`],
    ['small letters, and no CR', [Buffer.from('user u\npass right\nnoop\n')], `${OPEN} +OK`],
    ['a second sign-in', [...IN, 'USER v', 'PASS right', `AUTH PLAIN ${base64('\0u\0right')}`], `${OPEN} -ERR -ERR -ERR`],
    ['words that nobody knows', ['XYZZY', '', 'LAST'], '-ERR -ERR -ERR'],
    ['a line without an end', [Buffer.alloc(2000, 120), 'NOOP'], '-ERR (close)'],
  ])('%s', (_what, lines, expected, settings) => {
    expect(heard(lines, settings)).toBe(expected);
  });
  it('what could not be removed is said, and stays', () => {
    expect(heard([...IN, 'DELE 1', 'QUIT'], {}, 'refused')).toBe(`${OPEN} +OK <remove 11> -ERR [SYS/TEMP] (close)`);
  });
  it('the tenth mistake ends it', () => {
    const words = heard([...IN, ...Array.from({ length: 12 }, () => 'XYZZY')]);
    expect(words).toMatch(/^\S+ <[^>]+> \+OK 2 messages( -ERR)+ \(close\)$/);
    expect(words.match(/-ERR/g)?.length).toBe(10);
  });
});
