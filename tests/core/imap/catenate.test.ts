import fc from 'fast-check';
import { afterAll, beforeEach, describe, expect, it } from 'vitest';
import { readUrl } from '../../../src/core/imap/catenate.ts';
import { OctetBudget } from '../../../src/core/smtp/octet-budget.ts';
import { addMailbox } from '../../../src/service/directory/mailboxes.ts';
import { type Bare, openBare } from '../../support/context.ts';
import { ImapTalk, mailroomFor } from '../../support/imap-talk.ts';

const bare: Bare = await openBare();
afterAll(() => bare.close());
let talk: ImapTalk;
let address: string;
let number = 0;
beforeEach(async () => {
  number += 1;
  address = `c${number}@shop.example`;
  await bare.context.db.commit(() => bare.context.db.run('UPDATE plan SET most_mailboxes = 1000'));
  await addMailbox(bare.context, { address, password: null, quotaBytes: null });
  talk = await ImapTalk.signedIn(mailroomFor(bare, address), { now: () => bare.context.clock.now() });
});
const TEXT = [
  'Subject: parts\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n',
  '--b\r\nContent-Type: text/plain\r\n\r\nfirst\r\n--b\r\nContent-Type: text/html\r\n\r\n<p>second\r\n--b--\r\n',
];
const last = (lines: string[]): string => lines.at(-1) ?? '';

describe('a message that is put together (RFC 4469)', () => {
  it('of what comes, of whole messages, of their parts and of some octets of them', async () => {
    await talk.append('INBOX', TEXT.join(''));
    await talk.ask('SELECT INBOX');
    const validity = /UIDVALIDITY (\d+)/.exec((await talk.ask('STATUS INBOX (UIDVALIDITY)'))[0] ?? '')?.[1];
    const head = 'Subject: made\r\n\r\n';
    const parts = [
      `TEXT {${head.length}+}\r\n${head}`,
      `URL "/INBOX;UIDVALIDITY=${validity}/;UID=1/;SECTION=1"`,
      'URL "/;UID=1/;SECTION=2/;PARTIAL=3.6"',
      'URL ";UID=1/;SECTION=HEADER.FIELDS%20(subject)"',
      `URL "imap://${encodeURIComponent(address)}@mail.host.example/inbox/;UID=1/;SECTION=1.MIME"`,
    ];
    expect(last(await talk.ask(`APPEND Drafts (\\Draft) CATENATE (${parts.join(' ')})`))).toMatch(/^OK \[APPENDUID \d+ 1\] Kept$/);
    await talk.ask('SELECT Drafts');
    const made = 'firstsecondSubject: parts\r\n\r\nContent-Type: text/plain\r\n\r\n';
    expect(await talk.send('f FETCH 1 BODY.PEEK[TEXT]\r\n')).toBe(`* 1 FETCH (BODY[TEXT] {${made.length}}\r\n${made})\r\nf OK Done\r\n`);
    // The whole one, beside a message that comes as ever.
    expect(last(await talk.ask('APPEND Drafts CATENATE (URL "/INBOX/;UID=1") {1+}\r\nx'))).toMatch(/APPENDUID \d+ 2:3/);
    expect((await talk.ask('FETCH 2 RFC822.SIZE'))[0]).toBe(`* 2 FETCH (RFC822.SIZE ${TEXT.join('').length})`);
    expect(last(await talk.ask('UID REPLACE 3 Drafts CATENATE (TEXT {3+}\r\na\r\n URL "/INBOX/;UID=1/;SECTION=TEXT")'))).toBe(
      'OK Replaced',
    );
  });

  it('all or nothing: an address without anything behind it, and what is too large, are told', async () => {
    await talk.append('INBOX', TEXT.join(''));
    for (const url of [
      '/INBOX/;UID=9',
      '/Nowhere/;UID=1',
      '/INBOX;UIDVALIDITY=1/;UID=1',
      '/INBOX/;UID=1/;SECTION=7',
      '/INBOX/;UID=1/;SECTION=x(',
      'imap://far.example/INBOX/;UID=1',
      'imap://mail.host.example;UID=1',
      '/%E0%A4/;UID=1',
      ';UID=1',
      'http://far.example/',
      '/Shared/other@shop.example/INBOX/;UID=1',
    ])
      expect(await talk.ask(`APPEND Drafts CATENATE (TEXT {1+}\r\na URL "${url}")`)).toEqual([`NO [BADURL "${url}"] No such URL`]);
    const big = 'x'.repeat(90_000);
    await talk.append('INBOX', big);
    expect(last(await talk.ask('APPEND Drafts CATENATE (URL "/INBOX/;UID=2" URL "/INBOX/;UID=2")'))).toBe(
      'NO [TOOBIG] The message would be too large',
    );
    expect(await talk.ask('STATUS Drafts (MESSAGES)')).toEqual(['* STATUS "Drafts" (MESSAGES 0)', 'OK Done']);
    for (const wrong of ['CATENATE ()', 'CATENATE (TEXT "a")', 'CATENATE (LINK "/")', 'CATENATE (URL)'])
      expect(last(await talk.ask(`APPEND Drafts ${wrong}`)), wrong).toMatch(/^(BAD|NO \[CANNOT\])/);
  });

  it('what it holds counts, as what is sent does', async () => {
    const budget = new OctetBudget(100_000, () => 0);
    const small = await ImapTalk.signedIn(mailroomFor(bare, address), { now: () => 0, account: budget.open(() => {}) });
    await small.append('INBOX', 'x'.repeat(60_000));
    expect(last(await small.ask('APPEND Drafts CATENATE (URL "/INBOX/;UID=1")'))).toMatch(/^OK/);
    expect(budget.open(() => {}).resize(99_000)).toBe(true);
    expect(last(await small.ask('APPEND Drafts CATENATE (URL "/INBOX/;UID=1")'))).toMatch(/^NO \[UNAVAILABLE\]/);
  });

  it('whatever an address is, it is read in time or is none', () => {
    fc.assert(
      fc.property(fc.string({ unit: fc.constantFrom(...';/=UIDSECTONPARL%019.()\u00e9a') }), (url) => {
        readUrl(url, 'mail.host.example');
        readUrl(`/INBOX/;UID=1/;SECTION=${url}`, 'mail.host.example');
      }),
    );
  });
});
