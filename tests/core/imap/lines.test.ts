import fc from 'fast-check';
import { afterAll, expect, it } from 'vitest';
import { addMailbox } from '../../../src/service/directory/mailboxes.ts';
import { openBare } from '../../support/context.ts';
import { ImapTalk, mailroomFor } from '../../support/imap-talk.ts';

const bare = await openBare();
afterAll(() => bare.close());
await addMailbox(bare.context, { address: 'lines@shop.example', password: null, quotaBytes: null });
const mailroom = mailroomFor(bare, 'lines@shop.example');
const open = () => ImapTalk.signedIn(mailroom, { now: () => bare.context.clock.now() });

const ITEMS = ['UID', 'FLAGS', 'MODSEQ', 'INTERNALDATE', 'RFC822.SIZE', 'ENVELOPE', 'BODY', 'BODYSTRUCTURE'];
const two = (number: number): string => String(number).padStart(2, '0');
const aMessage = fc.record({
  subject: fc.constantFrom('plain', 'it\'s \\ "quoted"', '=?utf-8?q?gr=C3=BC=C3=9Fe?=', 'gr\u00fc\u00dfe', ''),
  flags: fc.uniqueArray(fc.constantFrom('\\Seen', '\\Answered', '\\Flagged', '\\Deleted', '\\Draft', '$Forwarded', 'later')),
  date: fc.tuple(
    fc.integer({ min: 1, max: 28 }),
    fc.constantFrom('Jan', 'Feb', 'Sep', 'Dec'),
    fc.integer({ min: 1970, max: 2090 }),
    fc.nat(59),
  ),
});

/** What FETCH answered, each item by itself, in an order of its own. */
const answers = (lines: readonly string[]): { number: number; shown: string[] }[] =>
  lines
    .join('\n')
    .split(/\n(?=\* |OK |NO )/)
    .flatMap((line) => {
      const [, number, rest] = /^\* (\d+) FETCH \((.*)\)$/s.exec(line) ?? [];
      if (rest === undefined) return [];
      const shown = rest.split(/ (?=(?:UID|FLAGS|MODSEQ|INTERNALDATE|RFC822\.SIZE|ENVELOPE|BODY|BODYSTRUCTURE|THREADID) )/);
      return [{ number: Number(number), shown: shown.sort() }];
    });

it('lists that the database composes say what each message by itself says, whatever is asked in whatever order, with gaps and without', async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.array(aMessage, { minLength: 1, maxLength: 30 }),
      fc.array(fc.nat(29), { maxLength: 12 }),
      fc.shuffledSubarray(ITEMS, { minLength: 1 }),
      async (messages, gone, items) => {
        const talk = await open();
        await talk.ask('CREATE Many');
        for (const { subject, flags, date } of messages)
          await talk.append(
            'Many',
            `From: Ana <ana@far.example>\r\nSubject: ${subject}\r\n\r\nHello\r\n`,
            `(${flags.join(' ')}) "${two(date[0])}-${date[1]}-${date[2]} 10:20:${two(date[3])} +0100"`,
          );
        await talk.ask('SELECT Many');
        for (const at of gone) await talk.ask(`UID STORE ${at + 1} +FLAGS.SILENT (\\Deleted)`);
        if (gone.length > 0) await talk.ask('EXPUNGE');
        // What a list does not hold makes each message be read by itself.
        const alone = await talk.ask(`FETCH 1:* (THREADID ${ITEMS.join(' ')})`);
        const together = await talk.ask(`FETCH 1:* (${items.join(' ')})`);
        // RFC 7162 §3.2.4: who has asked for mod-sequences gets them with flags from then on.
        const wantedItems = items.includes('FLAGS') ? [...items, 'MODSEQ'] : items;
        const wanted = answers(alone).map(({ number, shown }) => ({
          number,
          shown: shown.filter((one) => wantedItems.includes(one.split(' ')[0] ?? '')),
        }));
        expect(answers(together)).toEqual(wanted);
        await talk.ask('CLOSE');
        await talk.ask('DELETE Many');
      },
    ),
    { numRuns: 40 },
  );
});

it('what a session was not told of yet is not told by a list either', async () => {
  const [talk, other] = [await open(), await open()];
  for (const subject of ['one', 'two', 'three']) await talk.append('INBOX', `Subject: ${subject}\r\n\r\nHello\r\n`);
  await talk.ask('SELECT INBOX');
  await other.ask('SELECT INBOX');
  await other.ask('STORE 2 +FLAGS (\\Deleted \\Seen)');
  await other.ask('EXPUNGE');
  await other.append('INBOX', 'Subject: four\r\n\r\nHello\r\n');
  // It hears of the third by the number that it still has.
  const lines = await talk.ask('FETCH 1:* (UID ENVELOPE)');
  expect(answers(lines).map(({ number, shown }) => [number, shown.at(-1)])).toEqual([
    [1, 'UID 1'],
    [3, 'UID 3'],
    [4, 'UID 4'],
  ]);
  expect(lines.at(-1)).toBe('NO [EXPUNGEISSUED] Some of the messages no longer exist');
});
