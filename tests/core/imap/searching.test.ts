import { afterAll, beforeEach, describe, expect, it } from 'vitest';
import { type Sortable, sorted } from '../../../src/core/imap/sorting.ts';
import { threadText } from '../../../src/core/imap/threading.ts';
import { Turns } from '../../../src/core/pieces.ts';
import { type Bare, openBare } from '../../support/context.ts';
import { type ImapTalk, message, openTalks } from '../../support/imap-talk.ts';

// One service for all; each test has a mailbox of its own.
const bare: Bare = await openBare();
afterAll(() => bare.close());

let talk: ImapTalk;
beforeEach(async () => {
  ({ talk } = await openTalks(bare));
});

const fill = async (...subjects: string[]): Promise<void> => {
  for (const subject of subjects) await talk.append('INBOX', message(subject));
  await talk.ask('SELECT INBOX');
};
const last = (lines: string[]): string => lines.at(-1) ?? '';

it('a large folder is put in order run by run, and comes to the same', async () => {
  const row = (sequence: number) =>
    ({ sequence, uid: sequence, row: { internalDate: (sequence * 7919) % 1000, size: sequence % 7 }, keys: {} }) as unknown as Sortable;
  const all = Array.from({ length: 20_000 }, (_one, at) => row(at + 1));
  const order = await sorted(all, [
    { by: 'SIZE', isReversed: true },
    { by: 'ARRIVAL', isReversed: false },
  ]);
  const plain = [...all].sort(
    (one, other) => other.row.size - one.row.size || one.row.internalDate - other.row.internalDate || one.sequence - other.sequence,
  );
  expect(order.map((one) => one.sequence)).toEqual(plain.map((one) => one.sequence));
});

describe('searching', () => {
  const ids = async (key: string): Promise<string> => (await talk.ask(`SEARCH ${key}`))[0]?.replace('* SEARCH', '').trim() ?? '';

  it('by every key (RFC 3501 §6.4.4, RFC 5032, RFC 8474)', async () => {
    await talk.append(
      'INBOX',
      message('Grocery list', 'Date: Mon, 1 Jun 2020 23:30:00 -0500\r\nX-Own: Blue Sky\r\nCc: leo@out.example\r\n'),
      '(\\Seen Work) "01-Jun-2020 10:00:00 +0000"',
    );
    await talk.append(
      'INBOX',
      message(
        '=?iso-8859-1?q?Gr=FC=DFe?=',
        'Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n',
        'caf=C3=A9 au lait\r\n',
      ),
      '(\\Flagged) "02-Jun-2020 10:00:00 +0000"',
    );
    await talk.append(
      'INBOX',
      message(
        'third',
        'Content-Type: multipart/mixed; boundary=b\r\n',
        '--b\r\nContent-Type: text/plain\r\nContent-Transfer-Encoding: base64\r\n\r\naGlkZGVuIHdvcmRz\r\n--b--\r\n',
      ),
      '(\\Answered \\Draft) "03-Jun-2020 10:00:00 +0000"',
    );
    await talk.ask('SELECT INBOX');
    for (const [key, expected] of [
      ['ALL', '1 2 3'],
      ['SEEN', '1'],
      ['UNSEEN', '2 3'],
      ['FLAGGED UNSEEN', '2'],
      ['OR ANSWERED SEEN', '1 3'],
      ['NOT (OR ANSWERED SEEN)', '2'],
      ['KEYWORD work', '1'],
      ['UNKEYWORD work', '2 3'],
      ['SUBJECT "GROCERY"', '1'],
      ['CHARSET UTF-8 SUBJECT gr\xc3\xbc\xc3\x9f', '2'],
      ['CHARSET ISO-8859-1 SUBJECT gr\xfc\xdf', '2'],
      ['FROM gray@cac', '1 2 3'],
      ['FROM leo', ''],
      ['CC leo', '1'],
      ['HEADER X-Own "blue sky"', '1'],
      ['HEADER X-Own ""', '1'],
      // A line of the text is no field.
      ['HEADER Hello ""', ''],
      ['HEADER X-Text ""', ''],
      ['HEADER X-None ""', ''],
      ['CHARSET UTF-8 BODY "CAF\xc3\x89"', '2'],
      ['BODY "hidden words"', '3'],
      ['TEXT "hidden words"', '3'],
      ['TEXT grocery', '1'],
      ['BODY grocery', ''],
      ['SINCE 2-Jun-2020', '2 3'],
      ['BEFORE 2-Jun-2020', '1'],
      ['ON 2-Jun-2020', '2'],
      ['SENTON 1-Jun-2020', '1'],
      ['LARGER 10000', ''],
      ['SMALLER 10000', '1 2 3'],
      ['1:2', '1 2'],
      ['UID 2:*', '2 3'],
      ['*', '3'],
      ['2:9', '2 3'],
      ['UID 9', ''],
      ['NEW', ''],
      ['OLD DRAFT', '3'],
      ['YOUNGER 10', ''],
      ['OLDER 10', '1 2 3'],
      ['SAVEDSINCE 1-Jan-2021', '1 2 3'],
    ] as const)
      expect(await ids(key), key).toBe(expected);
    const [, emailId] = /EMAILID \((\w+)\)/.exec((await talk.ask('FETCH 2 EMAILID'))[0] ?? '') ?? [];
    const [, threadId] = /THREADID \((\w+)\)/.exec((await talk.ask('FETCH 3 THREADID'))[0] ?? '') ?? [];
    expect(await ids(`EMAILID ${emailId}`)).toBe('2');
    expect(await ids(`THREADID ${threadId}`)).toBe('3');
    expect(await talk.ask('SEARCH CHARSET KLINGON ALL')).toEqual([
      'NO [BADCHARSET (US-ASCII UTF-8 ISO-8859-1 ISO-8859-15 WINDOWS-1252)] Unknown charset',
    ]);
    for (const wrong of ['', 'SUBJECT', 'SINCE yesterday', 'NOT', '(ALL', `${'NOT '.repeat(60)}ALL`, 'LARGER x'])
      expect(last(await talk.ask(`SEARCH ${wrong}`)), wrong).toMatch(/^BAD/);
  });

  it('gives back what is asked (RFC 4731), and keeps it (RFC 5182)', async () => {
    await fill('a', 'b', 'a', 'b', 'a');
    expect((await talk.ask('SEARCH RETURN (MIN MAX COUNT ALL) SUBJECT a'))[0]).toMatch(
      /^\* ESEARCH \(TAG "t\d+"\) MIN 1 MAX 5 ALL 1,3,5 COUNT 3$/,
    );
    expect((await talk.ask('UID SEARCH RETURN () SUBJECT b'))[0]).toMatch(/^\* ESEARCH \(TAG "t\d+"\) UID ALL 2,4$/);
    expect((await talk.ask('SEARCH RETURN (MIN) SUBJECT none'))[0]).toMatch(/^\* ESEARCH \(TAG "t\d+"\)$/);
    expect((await talk.ask('SEARCH RETURN (SAVE COUNT) SUBJECT b'))[0]).toMatch(/COUNT 2$/);
    expect(await talk.ask('FETCH $ UID')).toEqual(['* 2 FETCH (UID 2)', '* 4 FETCH (UID 4)', 'OK Done']);
    expect(await talk.ask('SEARCH NOT $')).toEqual(['* SEARCH 1 3 5', 'OK Done']);
    // RFC 4731 §3.2: of the first, of the first and the last, of all.
    const modseqOf = (sequence: number) => talk.ask(`FETCH ${sequence} MODSEQ`).then(([line]) => /MODSEQ \((\d+)\)/.exec(line ?? '')?.[1]);
    await talk.ask('STORE 3 +FLAGS.SILENT (\\Flagged)');
    const [first, middle, final] = [await modseqOf(1), await modseqOf(3), await modseqOf(5)];
    for (const [returns, told] of [
      ['MIN', first],
      ['MAX', final],
      ['MIN MAX', final],
      ['MIN COUNT', middle],
      ['', middle],
    ] as const)
      expect((await talk.ask(`SEARCH RETURN (${returns}) SUBJECT a MODSEQ 1`))[0], returns).toMatch(new RegExp(` MODSEQ ${told}$`));
    // RFC 5182 §2.1: NO leaves nothing, BAD what was.
    expect(last(await talk.ask('SEARCH RETURN (SAVE) CHARSET'))).toMatch(/^BAD/);
    expect(await talk.ask('SEARCH $')).toEqual(['* SEARCH 2 4', 'OK Done']);
    expect(last(await talk.ask('SEARCH RETURN (SAVE) CHARSET KLINGON ALL'))).toMatch(/^NO/);
    expect(await talk.ask('SEARCH $')).toEqual(['* SEARCH', 'OK Done']);
    await talk.ask('ENABLE IMAP4rev2');
    expect((await talk.ask('SEARCH ALL'))[0]).toMatch(/^\* ESEARCH \(TAG "t\d+"\) ALL 1:5$/);
  });

  it('SORT and THREAD (RFC 5256)', async () => {
    const mail = (subject: string, id: string, references: string, day: number): string =>
      message(
        subject,
        `Message-ID: <${id}@x>\r\n${references === '' ? '' : `References: ${references}\r\n`}Date: ${day} Jun 2020 10:00:00 +0000\r\n`,
        'x'.repeat(day),
      );
    for (const text of [
      mail('Plan', '1', '', 1),
      mail('Re: Plan', '2', '<1@x>', 5),
      mail('Re: Plan', '3', '<1@x>', 3),
      mail('Re: Plan', '4', '<1@x> <3@x>', 4),
      mail('Other', '5', '', 2),
      mail('Re: [list] other (fwd)', '6', '', 6),
      mail('Lost', '7', '<gone@x> <1@x>', 7),
    ])
      await talk.append('INBOX', text);
    await talk.ask('SELECT INBOX');
    expect(await talk.ask('SORT (DATE) UTF-8 ALL')).toEqual(['* SORT 1 5 3 4 2 6 7', 'OK Done']);
    expect(await talk.ask('SORT (REVERSE SUBJECT DATE) UTF-8 ALL')).toEqual(['* SORT 1 3 4 2 5 6 7', 'OK Done']);
    expect(await talk.ask('UID SORT (SIZE) US-ASCII SUBJECT plan')).toEqual(['* SORT 1 3 2 4', 'OK Done']);
    expect(await talk.ask('THREAD REFERENCES UTF-8 ALL')).toEqual(['* THREAD (1 (3 4)(2)(7))(5 6)', 'OK Done']);
    expect(await talk.ask('THREAD ORDEREDSUBJECT UTF-8 ALL')).toEqual(['* THREAD (1 (3)(4)(2))(5 6)(7)', 'OK Done']);
    expect(last(await talk.ask('THREAD GUESSED UTF-8 ALL'))).toBe('BAD Use REFERENCES or ORDEREDSUBJECT');
    // (5 B): the original begins a subject, also where the clock of whoever answered was behind.
    await talk.ask('CREATE Early');
    await talk.append('Early', mail('Re: Tide', '8', '', 1));
    await talk.append('Early', mail('Tide', '9', '', 2));
    await talk.append('Early', mail('Re: Tide', '10', '', 3));
    await talk.ask('SELECT Early');
    expect(await talk.ask('THREAD REFERENCES UTF-8 ALL')).toEqual(['* THREAD (2 (1)(3))', 'OK Done']);
  });

  it('the day of a Date is the one that stands there; fields beyond what is kept are found, too', async () => {
    await talk.append('INBOX', message('late', 'Date: Mon, 1 Jun 2020 23:30:00 -0700\r\n', 'x'));
    await talk.append('INBOX', message('early', 'Date: Tue, 2 Jun 2020 00:30:00 +0900\r\n', 'x'));
    const many = Array.from({ length: 2000 }, (_one, at) => ` member${at}@club.example`).join(',\r\n');
    await talk.append('INBOX', message('many', `To:${many}\r\nReply-To: desk@club.example\r\n`, 'x'));
    await talk.ask('SELECT INBOX');
    expect(await talk.ask('SEARCH SENTON 1-Jun-2020')).toEqual(['* SEARCH 1', 'OK Done']);
    expect(await talk.ask('SEARCH SENTON 2-Jun-2020')).toEqual(['* SEARCH 2', 'OK Done']);
    expect(await talk.ask('SEARCH SENTBEFORE 2-Jun-2020 SENTSINCE 1-Jun-2020')).toEqual(['* SEARCH 1', 'OK Done']);
    expect(await talk.ask('SEARCH HEADER Reply-To desk TO member1999@')).toEqual(['* SEARCH 3', 'OK Done']);
    expect((await talk.ask('FETCH 3 BODY.PEEK[HEADER.FIELDS (Reply-To)]')).join('\n')).toContain('desk@club.example');
    await talk.ask('STORE 1 +FLAGS (\\Deleted)');
    const [, size] = /SIZE (\d+)/.exec((await talk.ask('FETCH 1 RFC822.SIZE'))[0] ?? '') ?? [];
    expect(await talk.ask('STATUS INBOX (DELETED DELETED-STORAGE)')).toEqual([
      `* STATUS "INBOX" (DELETED 1 DELETED-STORAGE ${size})`,
      'OK Done',
    ]);
    await talk.ask('ENABLE UTF8=ACCEPT');
    expect(last(await talk.ask('SEARCH CHARSET UTF-8 ALL'))).toMatch(/^BAD/);
  });
});

it('threads as long as a folder, and folders of one thread, are put together in turns', async () => {
  const count = 20_000;
  const shapes = {
    line: {
      references: (at: number) => (at === 1 ? [] : [`<${at - 1}@x>`]),
      text: `(${Array.from({ length: count }, (_one, at) => at + 1).join(' ')})`,
    },
    backwards: {
      references: (at: number) => (at === count ? [] : [`<${at + 1}@x>`]),
      text: `(${Array.from({ length: count }, (_one, at) => count - at).join(' ')})`,
    },
    flat: { references: () => ['<gone@x>'], text: `(${Array.from({ length: count }, (_one, at) => `(${at + 1})`).join('')})` },
  };
  for (const { references, text } of Object.values(shapes)) {
    const all = Array.from({ length: count }, (_one, place) => {
      const at = place + 1;
      const keys = { sentAt: at, subject: `about ${at}`, from: '', to: '', cc: '', messageId: `<${at}@x>`, references: references(at) };
      return { sequence: at, uid: at, row: {} as Sortable['row'], keys };
    });
    let turns = 0;
    const pause = async (): Promise<void> => {
      turns += 1;
    };
    expect(await threadText(all, 'REFERENCES', (one) => one.uid, new Turns(pause))).toBe(text);
    expect(turns).toBeGreaterThan(20);
  }
});
