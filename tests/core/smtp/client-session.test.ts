import { describe, expect, it } from 'vitest';
import { heldContent } from '../../../src/core/message/mail-content.ts';
import type { ClientOptions, ClientOutput, Envelope } from '../../../src/core/smtp/client-intents.ts';
import { ClientSession } from '../../../src/core/smtp/client-session.ts';

const OPTIONS: ClientOptions = { heloName: 'mail.host.example', tls: 'offered', credentials: null };
const TEXT = Buffer.from('Subject: hi\r\n\r\nHello\r\n');
const envelope = (changes: Partial<Envelope> & { to?: string[] } = {}): Envelope => {
  const { to = ['li@out.example'], ...rest } = changes;
  return {
    sender: 'ana@shop.example',
    recipients: to.map((address) => ({ address, notify: null, original: null })),
    content: heldContent(TEXT),
    smtputf8: false,
    returnContent: null,
    envelopeId: null,
    ...rest,
  };
};

/** Outputs as short words: what was sent, and what is told. */
function words(outputs: ClientOutput[]): string[] {
  return outputs.flatMap((one) => {
    if (one.kind === 'send') return one.bytes.toString().trimEnd().split('\r\n');
    if (one.kind === 'send-text') return [`[text of ${one.content.size}]`];
    if (one.kind === 'step') return [`(${one.step}: ${one.text})`];
    if (one.kind === 'finished')
      return [
        `= ${one.outcomes.map(({ recipient, kind, reply }) => `${recipient} ${kind} ${reply.code}`).join(', ')}${one.dsn ? ' dsn' : ''}`,
      ];
    if (one.kind === 'broken') return [`broken${one.reply ? ` by ${one.reply.code}` : ''}: ${one.reason}`];
    return [`<${one.kind}>`];
  });
}

/** A conversation that has come to where a message can be handed over. */
function ready(offers: string[] = ['PIPELINING'], options: Partial<ClientOptions> = {}): ClientSession {
  const session = new ClientSession({ ...OPTIONS, tls: 'none', ...options });
  hear(session, '220 mx.out.example');
  const last = hear(session, ...['mx.out.example', ...offers].map((one, at, all) => `250${at === all.length - 1 ? ' ' : '-'}${one}`));
  expect(last.at(-1)).toBe('<ready>');
  return session;
}
const hear = (session: ClientSession, ...lines: string[]): string[] =>
  words(session.receive(Buffer.from(lines.map((line) => `${line}\r\n`).join(''))));

describe('the beginning', () => {
  it('greets, says what was offered, and is ready', () => {
    const session = new ClientSession({ ...OPTIONS, tls: 'none' });
    expect([session.stage, session.secure]).toEqual(['greeting', false]);
    expect(hear(session, '220-mx.out.example', '220 welcome')).toEqual([
      '(greeting: 220 mx.out.example welcome)',
      'EHLO mail.host.example',
    ]);
    expect(session.stage).toBe('hello');
    expect(hear(session, '250-mx.out.example', '250-size 1000', '250 pipelining')).toEqual(['(hello: offers SIZE, PIPELINING)', '<ready>']);
    expect(session.stage).toBe('message');
    expect(words(session.quit())).toEqual(['QUIT']);
    // What comes afterwards is of no interest.
    expect(hear(session, '221 bye')).toEqual([]);
  });

  it.each<[string, Partial<ClientOptions>, string[], string[]]>([
    ['a server that does not greet', {}, ['554 no'], ['broken by 554: the server does not greet']],
    ['a greeting that puts off', {}, ['421 busy'], ['broken by 421: the server does not greet']],
    ['no SMTP at all', {}, ['HTTP/1.1 400'], ['broken: the server’s answer is not a valid reply: "HTTP/1.1 400"']],
    [
      'EHLO unknown, HELO known',
      {},
      ['220 x', '500 what?', '250 x'],
      ['(greeting: 220 x)', 'EHLO mail.host.example', 'HELO mail.host.example', '<ready>'],
    ],
    ['EHLO put off', {}, ['220 x', '421 later'], ['(greeting: 220 x)', 'EHLO mail.host.example', 'broken by 421: the server refuses EHLO']],
    [
      'neither is known',
      {},
      ['220 x', '502 no', '550 no'],
      ['(greeting: 220 x)', 'EHLO mail.host.example', 'HELO mail.host.example', 'broken by 550: the server refuses HELO'],
    ],
    [
      'no TLS where it is required',
      { tls: 'required' },
      ['220 x', '250 x'],
      [
        '(greeting: 220 x)',
        'EHLO mail.host.example',
        '(hello: offers nothing more)',
        'broken: the server does not offer TLS, which is required',
      ],
    ],
    [
      'TLS taken back, and required',
      { tls: 'required' },
      ['220 x', '250-x', '250 STARTTLS', '454 no'],
      [
        '(greeting: 220 x)',
        'EHLO mail.host.example',
        '(hello: offers STARTTLS)',
        'STARTTLS',
        'broken: the server does not offer TLS, which is required',
      ],
    ],
    [
      'TLS taken back, and only offered',
      { tls: 'offered' },
      ['220 x', '250-x', '250 STARTTLS', '454 no'],
      ['(greeting: 220 x)', 'EHLO mail.host.example', '(hello: offers STARTTLS)', 'STARTTLS', '<ready>'],
    ],
    [
      'a password without TLS',
      { tls: 'none', credentials: { user: 'u', password: 'p' } },
      ['220 x', '250-x', '250 AUTH PLAIN'],
      ['(greeting: 220 x)', 'EHLO mail.host.example', '(hello: offers AUTH)', 'broken: without TLS no password is sent'],
    ],
  ])('%s', (_what, options, heard, said) => {
    const session = new ClientSession({ ...OPTIONS, ...options });
    expect(heard.flatMap((line) => hear(session, line))).toEqual(said);
    if (said.at(-1)?.startsWith('broken')) expect(session.failedAt).not.toBeNull();
  });

  it('TLS begins the conversation anew, and forgets what came before it', () => {
    const session = new ClientSession(OPTIONS);
    hear(session, '220 x');
    hear(session, '250-x', '250 STARTTLS');
    expect(session.stage).toBe('tls');
    // Injected behind the 220: never read as a reply under TLS.
    expect(hear(session, '220 go', '250-x', '250 AUTH PLAIN')).toEqual(['<start-tls>']);
    expect(words(session.tlsStarted())).toEqual(['EHLO mail.host.example']);
    expect(session.secure).toBe(true);
    expect(hear(session, '250-x', '250 SIZE')).toEqual(['(hello: offers SIZE, with TLS)', '<ready>']);
  });

  it('signs in by PLAIN, else by LOGIN, only under TLS', () => {
    const credentials = { user: 'faro', password: 'pässword' };
    const start = (auth: string): [ClientSession, string[]] => {
      const session = new ClientSession({ ...OPTIONS, tls: 'implicit', credentials });
      hear(session, '220 x');
      return [session, hear(session, '250-x', `250 ${auth}`)];
    };
    const [plain, said] = start('AUTH LOGIN plain');
    expect(said.at(-1)).toBe(`AUTH PLAIN ${Buffer.from('\0faro\0pässword').toString('base64')}`);
    expect(plain.stage).toBe('sign-in');
    expect(hear(plain, '235 2.7.0 in')).toEqual(['(sign-in: 235 2.7.0 in)', '<ready>']);
    const [login, asked] = start('AUTH LOGIN');
    expect(asked.at(-1)).toBe('AUTH LOGIN');
    expect(hear(login, '334 VXNlcm5hbWU6')).toEqual([Buffer.from('faro').toString('base64')]);
    expect(hear(login, '334 UGFzc3dvcmQ6')).toEqual([Buffer.from('pässword').toString('base64')]);
    expect(hear(login, '535 5.7.8 no')).toEqual(['broken by 535: the server refuses the sign-in']);
    expect(login.failedAt).toBe('sign-in');
    expect(hear(start('AUTH LOGIN')[0], '535 no')).toEqual(['broken by 535: the server refuses the sign-in']);
    expect(start('AUTH CRAM-MD5')[1].at(-1)).toBe('broken: the server offers no sign-in by PLAIN or LOGIN');
    expect(start('SIZE')[1].at(-1)).toBe('broken: the server offers no sign-in by PLAIN or LOGIN');
  });
});

describe('a message', () => {
  it('goes in one group where PIPELINING is offered, and step by step where not', () => {
    const fast = ready();
    expect(words(fast.deliver(envelope({ to: ['a@out.example', 'b@out.example'] })))).toEqual([
      'MAIL FROM:<ana@shop.example>',
      'RCPT TO:<a@out.example>',
      'RCPT TO:<b@out.example>',
      'DATA',
    ]);
    expect(hear(fast, '250 ok', '250 ok', '550 no', '354 go')).toEqual([`[text of ${TEXT.length}]`]);
    expect(fast.textSent).toBe(true);
    expect(hear(fast, '250 2.0.0 taken')).toEqual(['= a@out.example taken 250, b@out.example never 550', '<ready>']);
    const slow = ready(['SIZE']);
    expect(words(slow.deliver(envelope({ to: ['a@out.example', 'b@out.example'] })))).toEqual([
      `MAIL FROM:<ana@shop.example> SIZE=${TEXT.length}`,
    ]);
    expect(hear(slow, '250 ok')).toEqual(['RCPT TO:<a@out.example>']);
    expect(hear(slow, '250 ok')).toEqual(['RCPT TO:<b@out.example>']);
    expect(hear(slow, '451 later')).toEqual(['DATA']);
    expect(slow.textSent).toBe(false);
    expect(hear(slow, '354 go')).toEqual([`[text of ${TEXT.length}]`]);
    expect(hear(slow, '250 taken')).toEqual(['= a@out.example taken 250, b@out.example later 451', '<ready>']);
    // The next one goes over the same connection.
    expect(words(slow.deliver(envelope()))).toEqual([`MAIL FROM:<ana@shop.example> SIZE=${TEXT.length}`]);
    expect(slow.textSent).toBe(false);
  });

  it.each<[string, string[], Partial<Envelope> & { to?: string[] }, string[], string[]]>([
    ['a sender that is refused', ['PIPELINING'], {}, ['550 no', '503 no', '503 no'], ['= li@out.example never 550', 'RSET']],
    ['a sender that is refused, step by step', [], {}, ['450 later'], ['= li@out.example later 450', 'RSET']],
    ['no recipient is taken', ['PIPELINING'], {}, ['250 ok', '550 no', '554 no valid recipients'], ['= li@out.example never 550', 'RSET']],
    [
      'no recipient is taken, step by step',
      [],
      {},
      ['250 ok', '450 later'],
      ['RCPT TO:<li@out.example>', '= li@out.example later 450', 'RSET'],
    ],
    [
      '354 although no recipient was taken: its dot all the same',
      ['PIPELINING'],
      {},
      ['250 ok', '550 no', '354 go', '554 none'],
      ['.', '= li@out.example never 550', 'RSET'],
    ],
    [
      'DATA is refused',
      ['PIPELINING'],
      { to: ['a@x.example', 'b@x.example'] },
      ['250 ok', '250 ok', '450 later', '451 not now'],
      ['= a@x.example later 451, b@x.example later 450', 'RSET'],
    ],
    [
      'the text is refused',
      ['PIPELINING'],
      {},
      ['250 ok', '250 ok', '354 go', '554 5.7.1 spam'],
      [`[text of ${TEXT.length}]`, '= li@out.example never 554', 'RSET'],
    ],
    [
      'the text is put off',
      ['PIPELINING'],
      {},
      ['250 ok', '250 ok', '354 go', '451 later'],
      [`[text of ${TEXT.length}]`, '= li@out.example later 451', 'RSET'],
    ],
    [
      'only asked whether it would be taken',
      ['PIPELINING'],
      { content: null, to: ['a@x.example', 'b@x.example'] },
      ['250 ok', '250 yes', '550 no'],
      ['= a@x.example taken 250, b@x.example never 550', 'RSET'],
    ],
    [
      'only asked, step by step',
      [],
      { content: null },
      ['250 ok', '250 yes'],
      ['RCPT TO:<li@out.example>', '= li@out.example taken 250', 'RSET'],
    ],
    [
      'a code that nobody knows is no success',
      ['PIPELINING'],
      {},
      ['250 ok', '250 ok', '354 go', '355 what'],
      [`[text of ${TEXT.length}]`, 'broken: the server’s replies are out of step: 355 what'],
    ],
  ])('%s', (_what, offers, changes, heard, said) => {
    const session = ready(offers);
    session.deliver(envelope(changes));
    expect(heard.flatMap((line) => hear(session, line))).toEqual(said);
    if (said.at(-1) === 'RSET') expect(hear(session, '250 reset')).toEqual(['<ready>']);
  });

  it('says what the server understands, and nothing else', () => {
    const wishes = envelope({
      sender: null,
      returnContent: 'HDRS',
      envelopeId: 'x+2B1',
      recipients: [{ address: 'li@out.example', notify: 'SUCCESS,FAILURE', original: 'rfc822;li@old.example' }],
    });
    expect(words(ready(['DSN', 'PIPELINING']).deliver(wishes))).toEqual([
      'MAIL FROM:<> RET=HDRS ENVID=x+2B1',
      'RCPT TO:<li@out.example> NOTIFY=SUCCESS,FAILURE ORCPT=rfc822;li@old.example',
      'DATA',
    ]);
    expect(words(ready().deliver(wishes))).toEqual(['MAIL FROM:<>', 'RCPT TO:<li@out.example>', 'DATA']);
    const dsn = ready(['DSN', 'PIPELINING']);
    dsn.deliver(wishes);
    hear(dsn, '250 ok', '250 ok', '354 go');
    expect(hear(dsn, '250 ok')[0]).toBe('= li@out.example taken 250 dsn');
    const eight = Buffer.from('Subject: hi\r\n\r\nSeñor\r\n');
    expect(words(ready(['8BITMIME', 'SIZE', 'PIPELINING']).deliver(envelope({ content: heldContent(eight) })))[0]).toBe(
      `MAIL FROM:<ana@shop.example> SIZE=${eight.length} BODY=8BITMIME`,
    );
    expect(words(ready(['8BITMIME']).deliver(envelope()))[0]).toBe('MAIL FROM:<ana@shop.example>');
  });

  it('with addresses or headers beyond ASCII goes only where SMTPUTF8 is offered', () => {
    for (const changes of [{ sender: 'añil@shop.example' }, { to: ['niño@out.example'] }, { smtputf8: true }]) {
      const to = changes.to?.[0] ?? 'li@out.example';
      const session = ready();
      expect(words(session.deliver(envelope(changes)))).toEqual([`= ${to} never 553`, '<ready>']);
      expect(words(ready(['SMTPUTF8']).deliver(envelope(changes)))[0]).toMatch(/ SMTPUTF8$/);
      // The conversation goes on with the next message.
      expect(words(session.deliver(envelope()))[0]).toBe('MAIL FROM:<ana@shop.example>');
    }
  });

  it('with 8-bit text or long lines goes only where 8BITMIME is offered', () => {
    const lined = (length: number): Buffer => Buffer.from(`Subject: hi\r\n\r\n${'x'.repeat(length)}\r\nend\r\n`);
    for (const [content, goes] of [
      [Buffer.from('\r\nSeñor\r\n'), false],
      [lined(998), true],
      [lined(999), false],
      [Buffer.from('x'.repeat(998)), true],
      [Buffer.from('x'.repeat(999)), false],
      [Buffer.from(`${'x\r\n'.repeat(2000)}`), true],
    ] as const) {
      expect(words(ready().deliver(envelope({ content: heldContent(content) })))[0], content.toString().slice(0, 30)).toBe(
        goes ? 'MAIL FROM:<ana@shop.example>' : '= li@out.example never 554',
      );
      expect(words(ready(['8BITMIME']).deliver(envelope({ content: heldContent(content) })))[0]).toMatch(/^MAIL FROM/);
    }
    expect(words(ready().deliver(envelope({ content: null })))[0]).toBe('MAIL FROM:<ana@shop.example>');
  });
});

describe('a server that misbehaves', () => {
  it('ends the conversation when it is idle, or in the middle, and nothing more is sent', () => {
    const session = ready();
    expect(hear(session, '421 4.4.2 idle too long')).toEqual(['broken by 421: the server ended the conversation']);
    expect(session.failedAt).toBe('message');
    expect(words(session.quit())).toEqual([]);
    expect(hear(session, '421 again')).toEqual([]);
  });
  it.each([
    ['a line without an end', Buffer.alloc(65 * 1024, 120), 'the server’s reply does not end'],
    ['a reply of more than 200 lines', Buffer.from('250-x\r\n'.repeat(201)), 'the server’s reply does not end'],
    ['a code that is none', Buffer.from('650 what\r\n'), 'the server’s answer is not a valid reply: "650 what"'],
    ['a code without a blank', Buffer.from('250what\r\n'), null],
  ])('%s', (_what, bytes, reason) => {
    const session = new ClientSession(OPTIONS);
    const said = words(session.receive(bytes));
    if (reason === null) expect(said).toEqual(['broken by 250: the server does not greet']);
    else expect(said).toEqual([`broken: ${reason}`]);
  });
  it('is read in any pieces, with bare line ends, and its text is made harmless', () => {
    const session = new ClientSession({ ...OPTIONS, tls: 'none' });
    for (const piece of ['2', '20 mx\u0007 \u00ff', ' hello']) expect(words(session.receive(Buffer.from(piece, 'latin1')))).toEqual([]);
    expect(words(session.receive(Buffer.from('\n')))).toEqual(['(greeting: 220 mx? ? hello)', 'EHLO mail.host.example']);
    const long = new ClientSession({ ...OPTIONS, tls: 'none' });
    expect(hear(long, `554 ${'z'.repeat(3000)}`)).toHaveLength(1);
    const [broken] = new ClientSession(OPTIONS).receive(Buffer.from(`554 ${'z'.repeat(3000)}\r\n`));
    expect(broken).toMatchObject({ kind: 'broken', reply: { code: 554, text: 'z'.repeat(500) } });
  });
  it('replies of 200 lines are read', () => {
    const session = new ClientSession({ ...OPTIONS, tls: 'none' });
    expect(hear(session, ...Array.from({ length: 199 }, () => '220-x'), '220 x').at(-1)).toBe('EHLO mail.host.example');
  });
});

describe('replies that do not fit what was asked (RFC 5321 §4.2)', () => {
  const ONE = ['MAIL FROM:<ana@shop.example>', 'RCPT TO:<li@out.example>', 'DATA'];
  // Each row: what the server says to MAIL, RCPT, DATA and the text; none of them may count as taken.
  it.each([
    ['250 to DATA', ['250 ok', '250 ok', '250 ok']],
    ['220 to DATA', ['250 ok', '250 ok', '220 hm']],
    ['354 to MAIL', ['354 go on']],
    ['220 to RCPT', ['250 ok', '220 hm']],
    ['two replies to MAIL', ['250 ok\r\n250 ok', '250 ok', '354 go on', '250 taken']],
    ['two replies to RCPT', ['250 ok', '250 ok\r\n250 ok', '354 go on', '250 taken']],
    ['354 to the text', ['250 ok', '250 ok', '354 go on', '354 go on']],
    ['221 to the text', ['250 ok', '250 ok', '354 go on', '221 bye']],
    ['a reply with the 354', ['250 ok', '250 ok', '354 go on\r\n250 taken']],
    ['half a reply with the 354', ['250 ok', '250 ok', '354 go on\r\n25']],
  ])('%s ends the conversation, and nothing counts as taken', (_name, replies) => {
    for (const offers of [['8BITMIME'], ['PIPELINING']]) {
      const session = ready(offers);
      const said = words(session.deliver(envelope()));
      for (const reply of replies) said.push(...hear(session, reply));
      expect(said.join('\n')).not.toContain('taken');
      expect(said.at(-1)).toMatch(/^broken: the server’s replies are out of step/);
      expect(said[0]).toBe(ONE[0]);
    }
  });
  it('a reply too many after the text spoils the conversation, not the message', () => {
    const session = ready(['8BITMIME']);
    session.deliver(envelope());
    for (const reply of ['250 ok', '250 ok', '354 go on']) hear(session, reply);
    const said = hear(session, '250 taken', '250 taken');
    expect(said[0]).toBe('= li@out.example taken 250');
    expect(said.at(-1)).toMatch(/^broken/);
  });
});
