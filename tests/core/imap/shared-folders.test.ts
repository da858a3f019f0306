import { afterAll, beforeEach, describe, expect, it } from 'vitest';
import { addCustomer } from '../../../src/service/directory/customers.ts';
import { addDomain } from '../../../src/service/directory/domains.ts';
import { addMailbox } from '../../../src/service/directory/mailboxes.ts';
import { shareMailbox, unshareMailbox } from '../../../src/service/directory/members.ts';
import { removeMailbox } from '../../../src/service/directory/removed-mailboxes.ts';
import { type Bare, openBare } from '../../support/context.ts';
import { ImapTalk, mailroomFor } from '../../support/imap-talk.ts';

// One service for all; each test has mailboxes of its own.
const bare: Bare = await openBare();
afterAll(() => bare.close());

let number = 0;
let info: string;
let ana: string;
let infoTalk: ImapTalk;
let talk: ImapTalk;
const add = (address: string) => addMailbox(bare.context, { address, password: null, quotaBytes: null });
const open = (address: string) => ImapTalk.signedIn(mailroomFor(bare, address), { now: () => bare.context.clock.now() });
beforeEach(async () => {
  number += 1;
  [info, ana] = [`info${number}@shop.example`, `ana${number}@shop.example`];
  await bare.context.db.commit(() => bare.context.db.run('UPDATE plan SET most_mailboxes = 1000'));
  await add(info);
  await add(ana);
  [infoTalk, talk] = [await open(info), await open(ana)];
});
const message = 'Subject: question\r\n\r\nHello\r\n';
const share = (as: 'reader' | 'writer' | 'manager', maySend = false) => shareMailbox(bare.context, info, { member: ana, as, maySend });
const inbox = (): string => `"Shared/${info}/INBOX"`;
const last = (lines: string[]): string => lines.at(-1) ?? '';
const journal = (): unknown[] =>
  bare.context.db
    .all<{ data: string }>("SELECT data FROM journal WHERE event = 'shared-mailbox-used' AND data LIKE ?", `%${info}%`)
    .map(({ data }) => JSON.parse(data));

describe('a mailbox that is shared (RFC 4314, RFC 2342)', () => {
  it('is not there for who is no member, and there under its address for who is', async () => {
    expect(await talk.ask('NAMESPACE')).toEqual(['* NAMESPACE (("" "/")) NIL (("Shared/" "/"))', 'OK Done']);
    for (const command of [
      `SELECT ${inbox()}`,
      `STATUS ${inbox()} (MESSAGES)`,
      `GETACL ${inbox()}`,
      `MYRIGHTS ${inbox()}`,
      `SUBSCRIBE ${inbox()}`,
    ])
      expect(await talk.ask(command)).toEqual(['NO [NONEXISTENT] There is no such folder']);
    expect(last(await talk.append(`Shared/${info}/INBOX`, message))).toBe('NO [TRYCREATE] There is no such folder');
    expect((await talk.ask('LIST "" *')).join()).not.toContain('Shared');
    await share('reader');
    expect((await talk.ask('LIST "" "Shared/*"')).filter((one) => one.includes('INBOX'))).toEqual([
      `* LIST (\\HasNoChildren) "/" "Shared/${info}/INBOX"`,
    ]);
    expect(await talk.ask('LIST "" %')).toContain('* LIST (\\Noselect \\HasChildren) "/" "Shared"');
    expect(last(await talk.ask(`SUBSCRIBE ${inbox()}`))).toBe('OK Done');
    expect(await talk.ask('LIST (SUBSCRIBED) "" "Shared/*"')).toContain(`* LIST (\\HasNoChildren \\Subscribed) "/" "Shared/${info}/INBOX"`);
    await removeMailbox(bare.context, info);
    expect((await talk.ask('LIST "" *')).join()).not.toContain('Shared');
  });

  it('readers read and mark as seen, and nothing else', async () => {
    await infoTalk.append('INBOX', message);
    await share('reader');
    expect(await talk.ask(`MYRIGHTS ${inbox()}`)).toEqual([`* MYRIGHTS "Shared/${info}/INBOX" lrs`, 'OK Done']);
    const selected = await talk.ask(`SELECT "Shared/${info.toUpperCase()}/inbox"`);
    expect(selected).toContain('* OK [PERMANENTFLAGS (\\Seen)] These stay');
    expect(await talk.ask('STORE 1 +FLAGS (\\Seen \\Deleted odd)')).toEqual(['* 1 FETCH (FLAGS (\\Seen))', 'OK Done']);
    expect(await talk.ask('STORE 1 FLAGS (\\Answered)')).toEqual(['* 1 FETCH (FLAGS ())', 'OK Done']);
    for (const command of ['EXPUNGE', 'MOVE 1 Archive'])
      expect(await talk.ask(command)).toEqual(['NO [NOPERM] You do not have the right to do that']);
    expect(last(await talk.append(`Shared/${info}/INBOX`, message))).toBe('NO [NOPERM] You do not have the right to do that');
    for (const command of [
      `CREATE "Shared/${info}/Mine"`,
      `DELETE "Shared/${info}/Archive"`,
      `RENAME "Shared/${info}/Archive" "Shared/${info}/Old"`,
      `SETACL ${inbox()} ${ana} +a`,
    ])
      expect(await talk.ask(command)).toEqual(['NO [NOPERM] You do not have the right to do that']);
    expect(await talk.ask(`GETACL ${inbox()}`)).toEqual(['NO [NOPERM] You do not have the right to see the rights there']);
    // What may be read may be taken along.
    expect(last(await talk.ask('COPY 1 Archive'))).toMatch(/^OK \[COPYUID \d+ 1 1\] Copied$/);
    expect(await talk.ask('CLOSE')).toEqual(['OK Closed']);
    expect(journal()).toEqual([]);
  });

  it('writers answer, file and tidy up; who did what is in the journal, and both sides see it at once', async () => {
    await share('writer');
    await infoTalk.append('INBOX', message);
    await infoTalk.ask('SELECT INBOX');
    await talk.append('INBOX', message);
    await talk.ask('SELECT INBOX');
    expect(last(await talk.ask(`MOVE 1 ${inbox()}`))).toBe('OK Done');
    expect(await infoTalk.ask('NOOP')).toContain('* 2 EXISTS');
    await talk.ask(`SELECT ${inbox()}`);
    await talk.ask('STORE 1 +FLAGS (\\Deleted \\Answered)');
    expect(await talk.ask('EXPUNGE')).toEqual(['* 1 EXPUNGE', 'OK Done']);
    expect(await infoTalk.ask('NOOP')).toEqual(['* 1 EXPUNGE', 'OK Done']);
    expect(last(await talk.ask(`COPY 1 "Shared/${info}/Archive"`))).toMatch(/^OK \[COPYUID/);
    await talk.ask('STORE 1 +FLAGS (\\Deleted)');
    await talk.ask('CLOSE');
    const by = ana;
    await expect.poll(journal).toEqual(
      [
        { act: 'moved-in', folder: 'INBOX', messages: 1 },
        { act: 'expunged', folder: 'INBOX', messages: 1 },
        { act: 'copied-in', folder: 'Archive', messages: 1 },
        { act: 'expunged', folder: 'INBOX', messages: 1 },
      ].map((one) => ({ address: info, by, ...one })),
    );
    // The one whose mailbox it is counts what lies there.
    expect(await talk.ask(`GETQUOTAROOT "Shared/${info}/Archive"`)).toEqual([
      `* QUOTAROOT "Shared/${info}/Archive" "${info}"`,
      expect.stringMatching(new RegExp(`^\\* QUOTA "${info}" \\(STORAGE 1 \\d+\\)$`)),
      'OK Done',
    ]);
  });

  it('managers make folders and say who may what in each; the last word is of single folders', async () => {
    await share('manager');
    await add(`leo${number}@shop.example`);
    const leo = `leo${number}@shop.example`;
    const leoTalk = await open(leo);
    expect(last(await talk.ask(`CREATE "Shared/${info}/Orders"`))).toMatch(/^OK \[MAILBOXID/);
    const orders = `"Shared/${info}/Orders"`;
    expect(await talk.ask(`SETACL ${orders} ${leo} lr`)).toEqual(['OK Done']);
    expect(await talk.ask(`GETACL ${orders}`)).toEqual([`* ACL ${orders} "${ana}" lrswipkxtea "${leo}" lr`, 'OK Done']);
    expect(await talk.ask(`SETACL ${orders} ${leo} +iz`)).toEqual(['BAD There is no such right']);
    expect(await talk.ask(`SETACL ${orders} ${leo} +iD`)).toEqual(['OK Done']);
    expect(await leoTalk.ask(`MYRIGHTS ${orders}`)).toEqual([`* MYRIGHTS ${orders} lrixte`, 'OK Done']);
    expect((await leoTalk.ask('LIST "" "Shared/*"')).filter((one) => !one.includes('Noselect'))).toEqual([
      `* LIST (\\HasNoChildren) "/" ${orders}`,
      'OK Done',
    ]);
    // What is copied there has the flags that may be set there (§4).
    await leoTalk.append('INBOX', message, '(\\Seen \\Flagged \\Deleted odd)');
    await leoTalk.ask('SELECT INBOX');
    expect(last(await leoTalk.ask(`COPY 1 ${orders}`))).toMatch(/^OK \[COPYUID/);
    await infoTalk.ask('SELECT Orders');
    expect(await infoTalk.ask('FETCH 1 FLAGS')).toEqual(['* 1 FETCH (FLAGS (\\Deleted))', 'OK Done']);
    expect(await talk.ask(`LISTRIGHTS ${orders} ${leo}`)).toEqual([`* LISTRIGHTS ${orders} "${leo}" "" l r s w i p k x t e a`, 'OK Done']);
    expect(last(await talk.ask(`SETACL ${orders} anyone lr`))).toBe('NO [CANNOT] Rights can be granted to single mailboxes only');
    expect(last(await talk.ask(`SETACL ${orders} ${info} lr`))).toBe('NO [CANNOT] The owner of a folder always has all rights');
    expect(last(await talk.ask(`SETACL ${orders} nobody@far.example lr`))).toBe(
      'NO [CANNOT] There is no such mailbox of the same customer',
    );
    // Who may not read it any more has it open no longer.
    await leoTalk.ask(`SELECT ${orders}`);
    expect(await talk.ask(`DELETEACL ${orders} ${leo}`)).toEqual(['OK Done']);
    await infoTalk.append('Orders', message);
    expect(await leoTalk.ask('NOOP')).toEqual(['* BYE The selected folder was removed']);
    expect(last(await talk.ask(`RENAME ${orders} Orders`))).toBe('NO [CANNOT] This is not possible between two mailboxes');
    expect(await talk.ask(`RENAME ${orders} "Shared/${info}/Orders 2026"`)).toEqual(['OK Done']);
    expect(await talk.ask(`DELETE "Shared/${info}/Orders 2026"`)).toEqual(['OK Done']);
    // One’s own folders can be shared in the same way.
    expect(await leoTalk.session.selected).toBeNull();
  });

  it('is shared within a customer only, and until that is ended', async () => {
    await addCustomer(bare.context, `Other ${number}`);
    await addDomain(bare.context, { name: `other${number}.example`, customer: `Other ${number}`, plan: 'p', role: 'home' });
    await add(`eva@other${number}.example`);
    await expect(shareMailbox(bare.context, info, { member: `eva@other${number}.example`, as: 'reader', maySend: false })).rejects.toThrow(
      /another customer’s/,
    );
    await expect(shareMailbox(bare.context, info, { member: info, as: 'reader', maySend: false })).rejects.toThrow(/with itself/);
    await share('writer');
    await talk.ask(`SELECT ${inbox()}`);
    await unshareMailbox(bare.context, info, ana);
    await expect(unshareMailbox(bare.context, info, ana)).rejects.toThrow(/is not shared with/);
    expect(await talk.ask('STORE 1:* +FLAGS (\\Seen)')).not.toContain('OK Done');
    expect((await talk.ask('LIST "" *')).join()).not.toContain('Shared');
  });
});
