import fc from 'fast-check';
import { afterAll, beforeEach, describe, expect, it } from 'vitest';
import { OctetBudget } from '../../../src/core/smtp/octet-budget.ts';
import { addMailbox } from '../../../src/service/directory/mailboxes.ts';
import { type Bare, openBare } from '../../support/context.ts';
import { ImapTalk, mailroomFor, message, openTalks } from '../../support/imap-talk.ts';

// One service for all; each test has a mailbox of its own.
const bare: Bare = await openBare();
afterAll(() => bare.close());

let address: string;
let talk: ImapTalk;
let other: ImapTalk;
beforeEach(async () => {
  ({ address, talk, other } = await openTalks(bare));
});

const fill = async (...subjects: string[]): Promise<void> => {
  for (const subject of subjects) await talk.append('INBOX', message(subject));
  await talk.ask('SELECT INBOX');
};
const last = (lines: string[]): string => lines.at(-1) ?? '';

describe('before signing in', () => {
  it('only what the RFC allows; passwords only under TLS', async () => {
    const clear = new ImapTalk(null, { secure: false });
    await clear.perform(clear.session.greet());
    expect(clear.take()).toBe(
      '* OK [CAPABILITY IMAP4rev1 IMAP4rev2 LITERAL+ ID ENABLE STARTTLS LOGINDISABLED] mail.host.example IMAP ready\r\n',
    );
    expect(await clear.ask('LOGIN ana right')).toEqual(['NO [PRIVACYREQUIRED] Begin TLS first (STARTTLS)']);
    expect(await clear.ask('AUTHENTICATE PLAIN AGFuYQByaWdodA==')).toEqual(['NO [PRIVACYREQUIRED] Begin TLS first (STARTTLS)']);
    expect(clear.events).toEqual(['in clear ana', 'in clear null']);
    expect(await clear.ask('SELECT INBOX')).toEqual(['BAD Sign in first']);
    // What was sent in clear behind STARTTLS is not heard (RFC 3501 §6.2.1).
    expect(await clear.send('s STARTTLS\r\nx NOOP\r\n')).toBe('s OK Begin TLS now\r\n');
    clear.session.tlsStarted();
    expect(await clear.ask('CAPABILITY')).toEqual(['* CAPABILITY IMAP4rev1 IMAP4rev2 LITERAL+ ID ENABLE SASL-IR AUTH=PLAIN', 'OK Done']);
  });

  it('PLAIN with and without its first answer, given up, and wrong (RFC 3501 §6.2.2, RFC 4959)', async () => {
    const fresh = () => new ImapTalk(mailroomFor(bare, 'ana@shop.example'));
    const good = Buffer.from('\0ana@shop.example\0right').toString('base64');
    expect(await fresh().send(`a AUTHENTICATE PLAIN ${good}\r\n`)).toMatch(
      /^a OK \[CAPABILITY IMAP4rev1 .*\] Signed in as ana@shop\.example\r\n$/,
    );
    const talked = fresh();
    expect(await talked.send('a AUTHENTICATE PLAIN\r\n')).toBe('+ \r\n');
    expect(await talked.send('*\r\n')).toBe('a BAD Given up\r\n');
    expect(await talked.send('b AUTHENTICATE CRAM-MD5\r\n')).toBe('b NO Only PLAIN is supported\r\n');
    await talked.send('b AUTHENTICATE PLAIN\r\n');
    expect(await talked.send('!!\r\n')).toBe('b BAD Invalid PLAIN response\r\n');
    await talked.send('c AUTHENTICATE PLAIN\r\n');
    expect(await talked.send(`${Buffer.from('\0ana\0wrong').toString('base64')}\r\n`)).toBe(
      'c NO [AUTHENTICATIONFAILED] User name or password is wrong for ana\r\n',
    );
    await talked.send('d AUTHENTICATE PLAIN\r\n');
    expect(await talked.send(`${good}\r\n`)).toMatch(/^d OK /);
    expect(await talked.ask('LOGIN a b')).toEqual(['BAD You are already signed in']);
  });

  it('a literal of a stranger is short, and is waited for (RFC 3501 §4.3)', async () => {
    const talked = new ImapTalk(mailroomFor(bare, 'ana@shop.example'));
    expect(await talked.send('a LOGIN {3}\r\n')).toBe('+ Go on\r\n');
    expect(await talked.send('ana {5}\r\n')).toBe('+ Go on\r\n');
    expect(await talked.send('right\r\n')).toMatch(/^a OK /);
    const greedy = new ImapTalk(null);
    expect(await greedy.send('a LOGIN {5000}\r\n')).toBe('a NO [TOOBIG] A literal of 5000 octets is too large\r\n');
    expect(await greedy.send('b LOGIN {5000+}\r\n')).toBe('* BYE A literal of 5000 octets is too large\r\n');
    expect(greedy.events).toEqual(['close']);
    const endless = new ImapTalk(null);
    expect(await endless.send('x'.repeat(9000))).toBe('* BYE The line is too long\r\n');
  });
});

describe('folders', () => {
  it('SELECT tells all that it must (RFC 3501 §6.3.1, RFC 7162, RFC 8474)', async () => {
    await fill('one', 'two');
    const [id = ''] = /F\d+/.exec((await talk.ask('STATUS INBOX (MAILBOXID)'))[0] ?? '') ?? [];
    expect(await talk.ask('SELECT inbox')).toEqual([
      '* OK [CLOSED] The selected folder is closed',
      '* 2 EXISTS',
      '* 0 RECENT',
      '* FLAGS (\\Answered \\Flagged \\Deleted \\Seen \\Draft)',
      '* OK [PERMANENTFLAGS (\\Answered \\Flagged \\Deleted \\Seen \\Draft \\*)] These stay',
      '* OK [UNSEEN 1] The first that was not seen',
      `* OK [UIDVALIDITY ${id.slice(1)}] As long as this stays, UIDs mean the same`,
      '* OK [UIDNEXT 3] The next message',
      '* OK [HIGHESTMODSEQ 3] The last change',
      `* OK [MAILBOXID (${id})] This folder`,
      'OK [READ-WRITE] Opened',
    ]);
    expect(last(await talk.ask('EXAMINE INBOX'))).toBe('OK [READ-ONLY] Opened for reading');
    expect(await talk.ask('STORE 1 +FLAGS (\\Seen)')).toEqual(['NO [CANNOT] The folder is open read-only']);
    expect(await talk.ask('SELECT nowhere')).toEqual([
      '* OK [CLOSED] The selected folder is closed',
      'NO [NONEXISTENT] There is no such folder',
    ]);
    // What was selected is so no longer (§6.3.1).
    expect(await talk.ask('FETCH 1 FLAGS')).toEqual(['BAD Select a folder first']);
  });

  it('made, listed, renamed with what is below, removed (RFC 3501 §6.3)', async () => {
    expect(await talk.ask('CREATE owatagusiam/')).toEqual([expect.stringMatching(/^OK \[MAILBOXID \(F\d+\)\] Done$/)]);
    expect(last(await talk.ask('CREATE owatagusiam/blurdybloop'))).toMatch(/^OK/);
    expect(await talk.ask('CREATE owatagusiam')).toEqual(['NO [ALREADYEXISTS] A folder of that name already exists']);
    expect(await talk.ask('CREATE inbox')).toEqual(['NO [ALREADYEXISTS] A folder of that name already exists']);
    expect(await talk.ask('DELETE owatagusiam')).toEqual(['NO [CANNOT] It has subfolders; remove those first']);
    expect(await talk.ask('RENAME owatagusiam owatagusiam/x')).toEqual(['NO [CANNOT] A folder cannot be inside itself']);
    expect(await talk.ask('RENAME owatagusiam Old/zowie')).toEqual(['OK Done']);
    expect(await talk.ask('LIST "" "O*"')).toEqual([
      '* LIST (\\HasChildren) "/" "Old"',
      '* LIST (\\HasChildren) "/" "Old/zowie"',
      '* LIST (\\HasNoChildren) "/" "Old/zowie/blurdybloop"',
      'OK Done',
    ]);
    expect(await talk.ask('LIST Old/ %')).toEqual(['* LIST (\\HasChildren) "/" "Old/zowie"', 'OK Done']);
    expect(await talk.ask('LIST "" ""')).toEqual(['* LIST (\\Noselect) "/" ""', 'OK Done']);
    expect(await talk.ask('DELETE INBOX')).toEqual(['NO [CANNOT] The Inbox stays']);
    expect(await talk.ask('DELETE nothing')).toEqual(['NO [NONEXISTENT] There is no such folder']);
    for (const name of ['""', '"a//b"', '"/a"', '"a\tb"', '"&!"'])
      expect((await talk.ask(`CREATE ${name}`))[0], name).toMatch(/^NO \[CANNOT\]/);
  });

  it('renaming the Inbox leaves an empty one, and what was in it lies in the new one (RFC 3501 §6.3.5)', async () => {
    await fill('one', 'two');
    expect(await talk.ask('RENAME INBOX Kept')).toEqual(['* 1 EXPUNGE', '* 1 EXPUNGE', 'OK Done']);
    expect((await talk.ask('STATUS Kept (MESSAGES UIDNEXT)'))[0]).toBe('* STATUS "Kept" (MESSAGES 2 UIDNEXT 3)');
    expect((await talk.ask('STATUS INBOX (MESSAGES UIDNEXT)'))[0]).toBe('* STATUS "INBOX" (MESSAGES 0 UIDNEXT 3)');
  });

  it('a folder that is made again under its name has another UIDVALIDITY', async () => {
    const validity = async () => /UIDVALIDITY (\d+)/.exec((await talk.ask('STATUS again (UIDVALIDITY)'))[0] ?? '')?.[1];
    await talk.ask('CREATE again');
    const first = await validity();
    await talk.ask('DELETE again');
    await talk.ask('CREATE again');
    expect(Number(await validity())).toBeGreaterThan(Number(first));
  });

  it('names of all letters, in modified UTF-7 (RFC 3501 §5.1.3) and, where it was asked for, in UTF-8 (RFC 6855)', async () => {
    await talk.ask('CREATE "~peter/mail/&U,BTFw-/&ZeVnLIqe-"');
    expect((await talk.ask('LIST "" "~peter/mail/%/%"'))[0]).toBe('* LIST (\\HasNoChildren) "/" "~peter/mail/&U,BTFw-/&ZeVnLIqe-"');
    await talk.ask('CREATE "Here & there"'.replace('& ', '&- '));
    expect((await talk.ask('LIST "" "Here*"'))[0]).toBe('* LIST (\\HasNoChildren) "/" "Here &- there"');
    expect(await talk.ask('ENABLE UTF8=ACCEPT')).toEqual(['* ENABLED UTF8=ACCEPT', 'OK Done']);
    const name = Buffer.from('~peter/mail/台北/日本語').toString('latin1');
    expect((await talk.ask('LIST "" "~peter/mail/%/%"'))[0]).toBe(`* LIST (\\HasNoChildren) "/" "${name}"`);
    expect(last(await talk.ask(`SELECT "${name}"`))).toBe('OK [READ-WRITE] Opened');
  });

  it('LIST with what is subscribed, for what use, and with counts (RFC 5258, RFC 5819, RFC 6154)', async () => {
    await fill('one');
    await talk.ask('CREATE Foo/Bar');
    await talk.ask('SUBSCRIBE Foo/Bar');
    expect(await talk.ask('SUBSCRIBE nowhere')).toEqual(['NO [NONEXISTENT] There is no such folder']);
    expect(await talk.ask('LIST (SUBSCRIBED RECURSIVEMATCH) "" Foo')).toEqual([
      '* LIST (\\HasChildren) "/" "Foo" ("CHILDINFO" ("SUBSCRIBED"))',
      'OK Done',
    ]);
    await talk.ask('DELETE Foo/Bar');
    // A name stays subscribed when its folder is gone (RFC 3501 §6.3.9).
    expect(await talk.ask('LIST (SUBSCRIBED) "" Foo/*')).toEqual([
      '* LIST (\\NonExistent \\HasNoChildren \\Subscribed) "/" "Foo/Bar"',
      'OK Done',
    ]);
    expect(await talk.ask('LSUB "" Foo/*')).toEqual(['* LSUB () "/" "Foo/Bar"', 'OK Done']);
    expect(await talk.ask('LSUB "" %')).toContain('* LSUB (\\Noselect) "/" "Foo"');
    expect(await talk.ask('LIST "" (INBOX J%) RETURN (SPECIAL-USE STATUS (MESSAGES UNSEEN SIZE))')).toEqual([
      '* LIST (\\HasNoChildren) "/" "INBOX"',
      `* STATUS "INBOX" (MESSAGES 1 UNSEEN 1 SIZE ${message('one').length})`,
      '* LIST (\\Junk \\HasNoChildren) "/" "Junk"',
      '* STATUS "Junk" (MESSAGES 0 UNSEEN 0 SIZE 0)',
      'OK Done',
    ]);
    expect(await talk.ask('LIST (SPECIAL-USE) "" *')).toHaveLength(6);
    expect((await talk.ask('CREATE MySent (USE (\\Sent))'))[0]).toBe('NO [USEATTR] Another folder already has that purpose');
    await talk.ask('DELETE Sent');
    expect((await talk.ask('CREATE MySent (USE (\\Sent))'))[0]).toMatch(/^OK/);
    expect((await talk.ask('CREATE Odd (USE (\\Odd))'))[0]).toBe('NO [USEATTR] Unknown folder purpose');
    expect(last(await talk.ask('LIST (NOVELTY) "" *'))).toBe('BAD NOVELTY is not a LIST option');
  });
});

describe('messages', () => {
  it('the envelope and structure of RFC 3501 §8, with a message that has them', async () => {
    const text = [
      'Date: Wed, 17 Jul 1996 02:23:25 -0700 (PDT)',
      'From: Terry Gray <gray@cac.example>',
      'Subject: IMAP4rev1 WG mtg summary and minutes',
      'To: imap@cac.example',
      'cc: minutes@cnri.example, John Klensin <KLENSIN@mit.example>',
      'Message-Id: <B27397-0100000@cac.example>',
      'MIME-Version: 1.0',
      'Content-Type: TEXT/PLAIN; CHARSET=US-ASCII',
      '',
      'Text',
      '',
    ].join('\r\n');
    await talk.append('INBOX', text, '(\\Seen) "17-Jul-1996 02:44:25 -0700"');
    await talk.ask('SELECT INBOX');
    expect((await talk.ask('FETCH 1 FULL'))[0]).toBe(
      '* 1 FETCH (FLAGS (\\Seen) INTERNALDATE "17-Jul-1996 09:44:25 +0000" RFC822.SIZE 302 ENVELOPE ("Wed, 17 Jul 1996 02:23:25 -0700 (PDT)" "IMAP4rev1 WG mtg summary and minutes" (("Terry Gray" NIL "gray" "cac.example")) (("Terry Gray" NIL "gray" "cac.example")) (("Terry Gray" NIL "gray" "cac.example")) ((NIL NIL "imap" "cac.example")) ((NIL NIL "minutes" "cnri.example")("John Klensin" NIL "KLENSIN" "mit.example")) NIL NIL "<B27397-0100000@cac.example>") BODY ("text" "plain" ("CHARSET" "US-ASCII") NIL NIL "7bit" 6 1))'.replace(
        '302',
        String(text.length),
      ),
    );
    expect(await talk.ask('FETCH 1 BODY[HEADER.FIELDS (DATE FROM)]')).toEqual([
      '* 1 FETCH (BODY[HEADER.FIELDS (DATE FROM)] {84}',
      'Date: Wed, 17 Jul 1996 02:23:25 -0700 (PDT)',
      'From: Terry Gray <gray@cac.example>',
      ')',
      'OK Done',
    ]);
  });

  it('sections of every kind (RFC 3501 §6.4.5), decoded ones (RFC 3516)', async () => {
    const part = (type: string, body: string, more = ''): string => `--b\r\nContent-Type: ${type}\r\n${more}\r\n${body}\r\n`;
    const text = `Subject: parts\r\nX-Own: 1\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n${part('text/plain', 'first')}${part(
      'message/rfc822',
      'Subject: inner\r\n\r\ninside',
    )}${part('application/octet-stream', 'AAEC', 'Content-Transfer-Encoding: base64\r\n')}--b--\r\n`;
    await talk.append('INBOX', text);
    await talk.ask('SELECT INBOX');
    const get = async (section: string): Promise<string> => {
      const said = await talk.send(`x FETCH 1 ${section}\r\n`);
      return /FETCH \(\S+(?: \([^)]*\)\])? ([\s\S]*)\)\r\n(?:\* 1 FETCH \(FLAGS \(\\Seen\)\)\r\n)?x OK/.exec(said)?.[1] ?? said;
    };
    const literal = (content: string): string => `{${content.length}}\r\n${content}`;
    expect(await get('BODY.PEEK[]')).toBe(literal(text));
    expect(await get('BODY.PEEK[1]')).toBe(literal('first'));
    expect(await get('BODY.PEEK[1.MIME]')).toBe(literal('Content-Type: text/plain\r\n\r\n'));
    expect(await get('BODY.PEEK[2]')).toBe(literal('Subject: inner\r\n\r\ninside'));
    expect(await get('BODY.PEEK[2.HEADER]')).toBe(literal('Subject: inner\r\n\r\n'));
    expect(await get('BODY.PEEK[2.TEXT]')).toBe(literal('inside'));
    expect(await get('BODY.PEEK[2.1]')).toBe(literal('inside'));
    expect(await get('BODY.PEEK[TEXT]<0.3>')).toBe(literal('--b'));
    expect(await get('BODY.PEEK[]<100000.5>')).toBe(literal(''));
    expect(await get('BODY.PEEK[HEADER.FIELDS.NOT (Subject)]')).toBe(
      literal('X-Own: 1\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n'),
    );
    expect(await get('BODY.PEEK[HEADER.FIELDS (X-OWN)]')).toBe(literal('X-Own: 1\r\n\r\n'));
    expect(await get('BODY.PEEK[7]')).toBe('NIL');
    expect(await get('BODY.PEEK[1.2]')).toBe('NIL');
    expect(await get('BINARY.PEEK[3]')).toBe('~{3}\r\n\0\x01\x02');
    expect(await get('BINARY.SIZE[3]')).toBe('3');
    expect(await talk.ask('FETCH 1 BODY[1.TEXT]')).toEqual(['* 1 FETCH (BODY[1.TEXT] NIL)', '* 1 FETCH (FLAGS (\\Seen))', 'OK Done']);
    for (const wrong of [
      'BODY[0]',
      'BODY[MIME]',
      'BODY[1.]',
      'BODY[TEXT]<0.0>',
      'BODY[HEADER.FIELDS ()]',
      'NOTHING',
      '(FLAGS',
      'BINARY[TEXT]',
    ])
      expect(last(await talk.ask(`FETCH 1 ${wrong}`)), wrong).toMatch(/^BAD/);
  });

  it('STORE in each way, with keywords; what is silent is silent (RFC 3501 §6.4.6)', async () => {
    await fill('1', '2', '3');
    expect(await talk.ask('STORE 2:3 +FLAGS (\\Deleted Work)')).toEqual([
      '* FLAGS (\\Answered \\Flagged \\Deleted \\Seen \\Draft Work)',
      '* 2 FETCH (FLAGS (\\Deleted Work))',
      '* 3 FETCH (FLAGS (\\Deleted Work))',
      'OK Done',
    ]);
    expect(await talk.ask('STORE 2 -FLAGS.SILENT work')).toEqual(['OK Done']);
    expect(await talk.ask('UID STORE 2 FLAGS (\\Seen \\Recent)')).toEqual(['* 2 FETCH (UID 2 FLAGS (\\Seen))', 'OK Done']);
    expect(await talk.ask('STORE 1 FLAGS (\\Own)')).toEqual(['BAD These flags cannot be set']);
    expect(await talk.ask('STORE 9 FLAGS ()')).toEqual(['BAD There is no such message']);
    expect(await talk.ask('UID STORE 99 FLAGS ()')).toEqual(['OK Done']);
  });

  it('sequence numbers stay what they are until the client is told (RFC 3501 §7.4.1)', async () => {
    await fill('1', '2', '3', '4');
    await other.ask('SELECT INBOX');
    await other.ask('STORE 2 +FLAGS.SILENT \\Deleted');
    expect(await other.ask('EXPUNGE')).toEqual(['* 2 EXPUNGE', 'OK Done']);
    // FETCH, STORE and SEARCH tell nothing of it, and 3 is still the third.
    expect(await talk.ask('FETCH 3 UID')).toEqual(['* 3 FETCH (UID 3)', 'OK Done']);
    expect(await talk.ask('FETCH 2 (UID RFC822.SIZE)')).toEqual(['NO [EXPUNGEISSUED] Some of the messages no longer exist']);
    expect(await talk.ask('SEARCH ALL')).toEqual(['* SEARCH 1 3 4', 'OK Done']);
    expect(await talk.ask('STORE 4 +FLAGS \\Seen')).toEqual(['* 4 FETCH (FLAGS (\\Seen))', 'OK Done']);
    expect(await talk.ask('NOOP')).toEqual(['* 2 EXPUNGE', 'OK Done']);
    expect(await talk.ask('FETCH 2 UID')).toEqual(['* 2 FETCH (UID 3)', 'OK Done']);
    // And the other hears of the mark.
    expect(await other.ask('NOOP')).toEqual(['* 3 FETCH (FLAGS (\\Seen))', 'OK Done']);
  });

  it('what others mark is told, whatever was fetched or stored in between (RFC 3501 §5.2, §7.4.2)', async () => {
    await fill('1', '2', '3');
    await other.ask('SELECT INBOX');
    // Whatever way FETCH is answered without FLAGS, and a mark of one's own that is silent, the others' marks are heard of.
    const asked = [
      'FETCH 1 UID',
      'FETCH 1 (UID RFC822.SIZE)',
      'FETCH 1 BODY.PEEK[TEXT]',
      'STORE 1 +FLAGS.SILENT \\Seen',
      'FETCH 1 (UID MODSEQ)',
    ];
    for (const [round, one] of asked.entries()) {
      await other.ask(`STORE 1 ${round % 2 === 0 ? '+' : '-'}FLAGS.SILENT \\Flagged`);
      const heard = (await talk.ask(one)).filter((line) => line.includes('FLAGS ('));
      expect([one, heard.length, heard.at(-1)?.includes('\\Flagged')]).toEqual([one, 1, round % 2 === 0]);
    }
  });

  it('texts that are read are marked as seen while they go out, before anything that depends on it (RFC 3501 §6.4.5)', async () => {
    await fill(...Array.from({ length: 300 }, (_, index) => `m${index}`));
    const many = Array.from({ length: 300 }, (_, index) => `f${index} FETCH ${index + 1} (BODY[TEXT])\r\n`).join('');
    const said = await talk.send(`${many}a FETCH 1:* (FLAGS)\r\nb SEARCH UNSEEN\r\nc FETCH 300 (BODY[] FLAGS)\r\n`);
    expect(said).toMatch(/\* 300 FETCH \(BODY\[TEXT\] \{/);
    const marks = said.slice(said.indexOf('f299 OK'));
    for (const sequence of [1, 150, 300]) expect(marks).toMatch(new RegExp(`\\* ${sequence} FETCH \\([^)]*FLAGS \\([^)]*\\\\Seen`));
    expect(said).toMatch(/\* SEARCH\r\nb OK/);
    // Nothing is marked by who only peeks, and a mark that is taken away stays away.
    await talk.ask('STORE 1 -FLAGS.SILENT (\\Seen)');
    await talk.ask('FETCH 1 (BODY.PEEK[TEXT])');
    expect(await talk.ask('SEARCH UNSEEN')).toEqual(['* SEARCH 1', 'OK Done']);
    expect(await talk.send('d FETCH 1 (BODY[TEXT])\r\ne STORE 1 -FLAGS.SILENT (\\Seen)\r\nf SEARCH UNSEEN\r\n')).toMatch(
      /\* SEARCH 1\r\nf OK/,
    );
  });

  it('IDLE tells at once (RFC 2177), and COPY, MOVE say where to (RFC 4315, RFC 6851)', async () => {
    await fill('1', '2');
    await other.ask('SELECT INBOX');
    expect(await other.send('i IDLE\r\n')).toBe('+ Waiting for news\r\n');
    await talk.append('INBOX', message('3'));
    expect(await other.hear()).toBe('* 3 EXISTS\r\n');
    const archive = /UIDVALIDITY (\d+)/.exec((await talk.ask('STATUS Archive (UIDVALIDITY)'))[0] ?? '')?.[1];
    expect(await talk.ask('COPY 1,3 Archive')).toEqual([`OK [COPYUID ${archive} 1,3 1:2] Copied`]);
    expect(await talk.ask('MOVE 2 Archive')).toEqual([`* OK [COPYUID ${archive} 2 3] Moved`, '* 2 EXPUNGE', 'OK Done']);
    expect(await other.hear()).toBe('* 2 EXPUNGE\r\n');
    expect(await other.send('DONE\r\n')).toBe('i OK Done\r\n');
    expect(await talk.ask('COPY 1 Nowhere')).toEqual(['NO [TRYCREATE] There is no such folder']);
    expect(await talk.ask('COPY 1:* INBOX')).toEqual([
      expect.stringMatching(/^\* 4 EXISTS$/),
      expect.stringMatching(/^OK \[COPYUID \d+ 1,3 4:5\] Copied$/),
    ]);
    await other.send('j IDLE\r\n');
    expect(await other.send('NOOP\r\n')).toBe('j BAD DONE ends IDLE\r\n');
  });

  it('a folder that somebody else removes ends the conversation that has it open', async () => {
    await talk.ask('CREATE Short');
    await other.ask('SELECT Short');
    await talk.ask('DELETE Short');
    expect(await other.ask('NOOP')).toEqual(['* BYE The selected folder was removed']);
    expect(other.events).toEqual(['close']);
  });

  it('several messages at once come all or not at all (RFC 3502); what can not be kept says why', async () => {
    const [one, two] = [message('one'), message('two')];
    expect(
      await talk.ask(`APPEND INBOX (\\Seen) {${one.length}+}\r\n${one} "01-Jan-2020 00:00:00 +0000" {${two.length}+}\r\n${two}`),
    ).toEqual([expect.stringMatching(/^OK \[APPENDUID \d+ 1:2\] Kept$/)]);
    expect(await talk.ask('APPEND Nowhere {1+}\r\nx')).toEqual(['NO [TRYCREATE] There is no such folder']);
    expect(await talk.ask('APPEND INBOX {0+}\r\n')).toEqual(['NO [CANNOT] The message is empty']);
    expect(await talk.ask('APPEND INBOX {3+}\r\na\0b')).toEqual(['NO [UNKNOWN-CTE] A message cannot contain NUL']);
    expect(await talk.ask('APPEND INBOX "32-Foo-2020 00:00:00 +0000" {1+}\r\nx')).toEqual(['BAD Invalid date and time']);
    expect(await talk.ask('APPEND INBOX "30-Feb-2020 00:00:00 +0000" {1+}\r\nx')).toEqual(['BAD Invalid date and time']);
    expect(await talk.ask('APPEND INBOX {200000}')).toEqual(['NO [TOOBIG] A literal of 200000 octets is too large']);
    expect(talk.session.selected).toBeNull();
    await bare.context.db.commit(() =>
      bare.context.db.run('UPDATE kept_mailbox SET quota_bytes = used_bytes + 10 WHERE local = ?', address.split('@')[0] ?? ''),
    );
    expect(await talk.append('INBOX', one)).toEqual(['NO [OVERQUOTA] The mailbox is full']);
    await talk.ask('SELECT INBOX');
    expect(await talk.ask('COPY 1 Archive')).toEqual(['NO [OVERQUOTA] The mailbox is full']);
    // Moving needs no room.
    expect(last(await talk.ask('MOVE 1 Archive'))).toBe('OK Done');
    expect(await talk.ask('GETQUOTAROOT INBOX')).toEqual([
      '* QUOTAROOT "INBOX" ""',
      expect.stringMatching(/^\* QUOTA "" \(STORAGE 1 0\)$/),
      'OK Done',
    ]);
  });

  it('REPLACE puts a new text in the place of an old one (RFC 8508)', async () => {
    await fill('draft');
    const text = message('final');
    expect(await talk.ask(`REPLACE 1 INBOX (\\Draft) {${text.length}+}\r\n${text}`)).toEqual([
      expect.stringMatching(/^\* OK \[APPENDUID \d+ 2\] Kept$/),
      '* 1 EXPUNGE',
      '* 1 EXISTS',
      'OK Replaced',
    ]);
    expect(await talk.ask('FETCH 1 (UID FLAGS)')).toEqual(['* 1 FETCH (UID 2 FLAGS (\\Draft))', 'OK Done']);
    // In a full mailbox: what goes makes the room, and not more.
    await bare.context.db.commit(() =>
      bare.context.db.run('UPDATE kept_mailbox SET quota_bytes = used_bytes WHERE local = ?', address.split('@')[0] ?? ''),
    );
    expect(last(await talk.ask(`APPEND INBOX {${text.length}+}\r\n${text}`))).toMatch(/^NO \[OVERQUOTA\]/);
    expect(last(await talk.ask(`REPLACE 1 INBOX {${text.length}+}\r\n${text}`))).toBe('OK Replaced');
    const longer = message('final, longer');
    expect(last(await talk.ask(`REPLACE 1 INBOX {${longer.length}+}\r\n${longer}`))).toMatch(/^NO \[OVERQUOTA\]/);
    expect(await talk.ask('FETCH 1 (UID)')).toEqual(['* 1 FETCH (UID 3)', 'OK Done']);
  });
});

describe('CONDSTORE and QRESYNC (RFC 7162)', () => {
  it('a mark that others changed is left alone', async () => {
    await fill('1', '2', '3');
    const before = Number(/HIGHESTMODSEQ (\d+)/.exec((await talk.ask('STATUS INBOX (HIGHESTMODSEQ)'))[0] ?? '')?.[1]);
    await other.ask('SELECT INBOX');
    await other.ask('STORE 2 +FLAGS \\Flagged');
    expect(await talk.ask(`STORE 1:3 (UNCHANGEDSINCE ${before}) +FLAGS.SILENT (\\Seen)`)).toEqual([
      `* 1 FETCH (UID 1 FLAGS (\\Seen) MODSEQ (${before + 2}))`,
      `* 2 FETCH (UID 2 FLAGS (\\Flagged) MODSEQ (${before + 1}))`,
      `* 3 FETCH (UID 3 FLAGS (\\Seen) MODSEQ (${before + 2}))`,
      'OK [MODIFIED 2] Some were changed in the meantime',
    ]);
    expect(await talk.ask(`FETCH 1:* (FLAGS) (CHANGEDSINCE ${before + 1})`)).toEqual([
      `* 1 FETCH (FLAGS (\\Seen) MODSEQ (${before + 2}))`,
      `* 3 FETCH (FLAGS (\\Seen) MODSEQ (${before + 2}))`,
      'OK Done',
    ]);
    expect(await talk.ask(`SEARCH MODSEQ ${before + 2}`)).toEqual([`* SEARCH 1 3 (MODSEQ ${before + 2})`, 'OK Done']);
  });

  it('who was away hears what has gone and what has changed, also when it is not remembered', async () => {
    await fill('1', '2', '3', '4');
    const [, validity] = /UIDVALIDITY (\d+)/.exec((await talk.ask('STATUS INBOX (UIDVALIDITY)'))[0] ?? '') ?? [];
    const modseq = Number(/HIGHESTMODSEQ (\d+)/.exec((await talk.ask('STATUS INBOX (HIGHESTMODSEQ)'))[0] ?? '')?.[1]);
    await talk.ask('STORE 2:3 +FLAGS \\Deleted');
    await talk.ask('EXPUNGE');
    await talk.ask('STORE 1 +FLAGS \\Answered');
    expect(await other.ask(`SELECT INBOX (QRESYNC (${validity} ${modseq}))`)).toEqual(['BAD ENABLE QRESYNC first']);
    expect((await other.ask('ENABLE QRESYNC CONDSTORE NOTHING'))[0]).toBe('* ENABLED QRESYNC CONDSTORE');
    const changes = (lines: string[]): string[] => lines.filter((line) => /VANISHED|FETCH/.test(line));
    const expected = ['* VANISHED (EARLIER) 2:3', `* 1 FETCH (UID 1 FLAGS (\\Answered) MODSEQ (${modseq + 3}))`];
    expect(changes(await other.ask(`SELECT INBOX (QRESYNC (${validity} ${modseq}))`))).toEqual(expected);
    expect(changes(await other.ask(`SELECT INBOX (QRESYNC (${validity} ${modseq} 3:4 (1:3 1:3)))`))).toEqual(['* VANISHED (EARLIER) 3']);
    expect(changes(await other.ask(`SELECT INBOX (QRESYNC (1 ${modseq}))`))).toEqual([]);
    expect(await other.ask(`UID FETCH 1:4 (FLAGS) (CHANGEDSINCE ${modseq} VANISHED)`)).toEqual([...expected, 'OK Done']);
    const { db } = bare.context;
    await db.commit(() => {
      db.run('DELETE FROM expunged');
      db.run('UPDATE folder SET forgotten_modseq = highest_modseq');
    });
    expect(changes(await other.ask(`SELECT INBOX (QRESYNC (${validity} ${modseq} 1:9))`))).toEqual(expected);
    expect(await other.ask(`UID FETCH 1:9 (FLAGS) (CHANGEDSINCE ${modseq} VANISHED)`)).toEqual([...expected, 'OK Done']);
    // With QRESYNC what goes is told by UID.
    await talk.ask('STORE 1 +FLAGS.SILENT \\Deleted');
    await talk.ask('EXPUNGE');
    expect((await other.ask('NOOP')).filter((line) => !line.includes('FETCH'))).toEqual(['* VANISHED 1', 'OK Done']);
  });
});

it('IMAP4rev2 tells of a folder by its name, and of nothing recent (RFC 9051 §6.3.2); what can not be decoded is refused (RFC 3516 §4.3)', async () => {
  await talk.append('INBOX', message('odd', 'Content-Transfer-Encoding: x-odd\r\n', 'begin 644 x\r\n'));
  await talk.ask('ENABLE IMAP4rev2');
  const said = await talk.ask('SELECT INBOX');
  expect(said).toContain('* LIST () "/" "INBOX"');
  expect(said.join(' ')).not.toMatch(/RECENT|UNSEEN/);
  expect(await talk.ask('FETCH 1 BINARY.PEEK[1]')).toEqual([
    '* 1 FETCH (BINARY[1] NIL)',
    'NO [UNKNOWN-CTE] Unknown encoding; fetch it with BODY instead',
  ]);
});

it('what is no command gets an answer, and too much of it an end', async () => {
  for (const [line, expected] of [
    ['', 'BAD A command is missing'],
    ['FROBNICATE', 'BAD There is no such command'],
    ['NOOP now', 'BAD Too many words'],
    ['SELECT', 'BAD A string is missing'],
    ['SELECT "open', 'BAD A quote is not closed'],
    ['CLOSE', 'BAD Select a folder first'],
    ['FETCH 0 FLAGS', 'BAD Select a folder first'],
  ] as const)
    expect(await talk.ask(line), line).toEqual([expected]);
  expect(await talk.send('\r\n\r\n')).toBe('');
  expect(await talk.send('* NOOP\r\n')).toBe('* BAD A command begins with a tag\r\n');
  let said = '';
  for (let at = 0; at < 20; at += 1) said += await talk.send('x WHAT\r\n');
  expect(said).toMatch(/\* BYE Too many unknown commands\r\n$/);
});

it('a conversation that is cut at any octet comes to the same (RFC 3501 §4.3)', async () => {
  let cuts = 0;
  const whole = `a SELECT INBOX\r\nb APPEND INBOX (\\Seen) {5+}\r\nhello\r\nc NOOP\r\nd FETCH 1 (UID FLAGS BODY[])\r\ne SEARCH TEXT {5+}\r\nhello\r\n`;
  const answer = async (pieces: Buffer[]): Promise<string> => {
    cuts += 1;
    const cut = `cut${cuts}@shop.example`;
    await addMailbox(bare.context, { address: cut, password: null, quotaBytes: null });
    const talked = await ImapTalk.signedIn(mailroomFor(bare, cut));
    let said = '';
    for (const piece of pieces) said += await talked.send(piece);
    return said.replace(/(UIDVALIDITY|APPENDUID|MAILBOXID \(F)\s?\d+/g, '$1');
  };
  const octets = Buffer.from(whole);
  const expected = await answer([octets]);
  expect(expected).toContain('d OK Done');
  for (let at = 1; at < octets.length; at += 7) expect(await answer([octets.subarray(0, at), octets.subarray(at)])).toBe(expected);
  expect(await answer([...octets].map((one) => Buffer.from([one])))).toBe(expected);
});

it('whatever comes, nothing is thrown, and whoever is not sent away is answered', async () => {
  const piece = fc.oneof(
    fc.constantFrom(
      'a ',
      'FETCH ',
      'UID ',
      'SEARCH ',
      'STORE ',
      'LIST ',
      'APPEND INBOX ',
      'SELECT INBOX',
      'SORT ',
      'THREAD REFERENCES ',
      'STATUS ',
      'CREATE ',
      'IDLE',
      'DONE',
      '1:*',
      '*',
      '$',
      '(',
      ')',
      '"',
      '\\',
      '{3}',
      '{3+}',
      '{0+}',
      '~{2+}',
      '{99999999999}',
      '\r\n',
      '\n',
      '\0',
      'é',
      'BODY[',
      ']',
      '<0.1>',
      'NOT ',
      'OR ',
      'ALL',
      'HEADER.FIELDS (',
      'RETURN (',
      'FLAGS',
      '+FLAGS (\\Seen)',
      'UTF-8 ',
      '&-',
      '&AAA',
      '%',
      'ENABLE QRESYNC',
      '(CHANGEDSINCE 1 VANISHED)',
      'BINARY[1]',
      'PREVIEW',
    ),
    fc.string({ maxLength: 6 }),
  );
  await fill('one', 'two');
  const mailroom = mailroomFor(bare, address);
  await fc.assert(
    fc.asyncProperty(fc.array(piece, { maxLength: 40 }), async (pieces) => {
      const talked = await ImapTalk.signedIn(mailroom);
      await talked.ask('SELECT INBOX');
      await talked.send(Buffer.from(pieces.join(''), 'latin1'));
      // What is begun is given up: a literal that is waited for, a wait for news.
      await talked.send(`${'x'.repeat(99)}\r\nDONE\r\n)\r\n`);
      expect((await talked.send('z NOOP\r\n')) !== '' || talked.events.includes('close') || pieces.join('').includes('{99')).toBe(true);
    }),
    { numRuns: 400 },
  );
});

it('literals of all conversations share what there is of memory', async () => {
  const budget = new OctetBudget(50_000, () => 0);
  const mailroom = mailroomFor(bare, address);
  const talks = await Promise.all([1, 2].map(() => ImapTalk.signedIn(mailroom, { account: budget.open(() => {}) })));
  const [first, second] = talks as [ImapTalk, ImapTalk];
  expect(await first.send('a APPEND INBOX {40000}\r\n')).toBe('+ Go on\r\n');
  expect(await second.send('a APPEND INBOX {40000}\r\n')).toBe(
    'a NO [UNAVAILABLE] The server is receiving too much right now; try again soon\r\n',
  );
  expect(await second.append('INBOX', 'small')).toEqual([expect.stringMatching(/^OK/)]);
  expect(await first.send(`${'x'.repeat(40_000)}\r\n`)).toMatch(/^a OK/);
  expect(budget.used).toBe(0);
  expect(await second.send('b APPEND INBOX {40000}\r\n')).toBe('+ Go on\r\n');
});
