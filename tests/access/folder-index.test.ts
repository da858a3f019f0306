import { existsSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import fc from 'fast-check';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { FolderIndexer } from '../../src/access/folder-indexer.ts';
import type { AccessParts } from '../../src/access/open-conversation.ts';
import { OwnersGate } from '../../src/core/gate.ts';
import { FolderView } from '../../src/core/imap/folder-view.ts';
import type { SearchKey } from '../../src/core/imap/search-keys.ts';
import { search } from '../../src/core/imap/search-run.ts';
import type { Wanted } from '../../src/core/mailbox/indexed.ts';
import { OctetBudget } from '../../src/core/smtp/octet-budget.ts';
import { addMailbox } from '../../src/service/directory/mailboxes.ts';
import { operate } from '../../src/service/mailbox/operate.ts';
import { findFolderNamed } from '../../src/store/folders.ts';
import { findMailbox } from '../../src/store/mailboxes.ts';
import { SearchIndex } from '../../src/store/search-index.ts';
import { SearchWriter } from '../../src/store/search-writer.ts';
import { TextReader } from '../../src/store/text-reader.ts';
import { type Bare, openBare } from '../support/context.ts';
import { mailroomFor } from '../support/imap-talk.ts';

const ADDRESS = 'kim@shop.example';
/** Texts of which an outline was made. */
const outlined = new Set<string>();
const port = {
  keepOutlines: (some: readonly { file: string }[]) => {
    for (const { file } of some) outlined.add(file);
  },
} as unknown as AccessParts['port'];
let bare: Bare;
let index: SearchIndex;
let indexer: FolderIndexer;
let mailboxId: number;

const WORDS = [
  'Año',
  'nuevo',
  'straße',
  'ÉTÉ',
  'e\u0301te',
  'invoice',
  'IN',
  'voice',
  '日本語',
  '東京都',
  'a"b',
  "o'clock",
  'x*y',
  'ﬃ',
  '😀',
  '-',
];
const word = fc.constantFrom(...WORDS);
/** A message with odd words in odd places: encoded, in octets, in parts, in a message within. */
const text = fc
  .record({
    subject: fc.array(word),
    from: word,
    body: fc.array(word),
    shape: fc.constantFrom('plain', 'base64', 'html', 'parts', 'inner', 'none'),
  })
  .map(({ subject, from, body, shape }) => {
    const words = subject.join(' ');
    const head = `From: =?utf-8?B?${Buffer.from(from).toString('base64')}?= <p@far.example>\r\nTo: ${ADDRESS}\r\nSubject: ${shape === 'html' ? words : `=?utf-8?B?${Buffer.from(words).toString('base64')}?=`}\r\n`;
    const said = body.join(' ');
    if (shape === 'none') return `${said}\r\n`;
    if (shape === 'base64')
      return `${head}Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: base64\r\n\r\n${Buffer.from(said).toString('base64')}\r\n`;
    if (shape === 'html') return `${head}Content-Type: text/html; charset=utf-8\r\n\r\n<p>${said}</p>\r\n`;
    const part = `Content-Type: text/plain; charset=utf-8\r\n\r\n${said}\r\n`;
    if (shape === 'parts') return `${head}Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\n${part}--b\r\n${part}--b--\r\n`;
    if (shape === 'inner') return `${head}Content-Type: message/rfc822\r\n\r\nSubject: ${said}\r\n${part}`;
    return `${head}${part}`;
  });

const append = async (to: string, texts: readonly string[]): Promise<void> => {
  for (let at = 0; at < texts.length; at += 100)
    await operate(bare.context, mailboxId, {
      kind: 'append',
      to,
      messages: texts.slice(at, at + 100).map((one) => ({ text: Buffer.from(one), internalDate: 0, flags: 0, keywords: '' })),
      instead: null,
    });
};
const folderOf = (name: string) => {
  const found = findFolderNamed(bare.context.db, mailboxId, name);
  if (!found) throw new Error(`no folder ${name}`);
  return found;
};
const follow = async (name: string): Promise<void> => {
  indexer.add([folderOf(name).id]);
  await indexer.quiet();
};
const setTexts = (isOn: boolean) => bare.context.db.commit(() => bare.context.db.run('UPDATE plan SET index_texts = ?', Number(isOn)));

/** What a search finds by looking at every message, and by the index; how many messages were looked at then. */
async function both(name: string, key: SearchKey): Promise<{ plain: number[]; indexed: number[]; looked: number }> {
  const mailroom = mailroomFor(bare, ADDRESS, index);
  const context = { mailroom, view: await FolderView.open(mailroom, folderOf(name), true), saved: [], now: bare.context.clock.now() };
  const unindexed = Object.create(mailroom, {
    indexed: { value: async function* (): AsyncGenerator<never> {} },
  });
  let looked = 0;
  const counted = Object.create(mailroom, {
    messagesOf: {
      value: (folder: number, uids: number[]) => {
        looked += uids.length;
        return mailroom.messagesOf(folder, uids);
      },
    },
  });
  const plain = await search({ ...context, mailroom: unindexed }, key);
  return { plain, indexed: await search({ ...context, mailroom: counted }, key), looked };
}

beforeAll(async () => {
  bare = await openBare();
  await addMailbox(bare.context, { address: ADDRESS, password: 'quiet harbour lantern', quotaBytes: null });
  mailboxId = findMailbox(bare.context.db, 'kim', 'shop.example')?.id ?? 0;
  index = new SearchIndex(bare.folder);
  const parts: AccessParts = {
    db: bare.context.db,
    texts: new TextReader(bare.context.db, bare.folder),
    port,
    index,
    literals: new OctetBudget(1, () => 0),
    largeTexts: new OwnersGate(1e9),
    onFault: (_service, _client, error) => {
      bare.faults.push(String(error));
    },
  };
  indexer = new FolderIndexer(parts, index, new SearchWriter(bare.folder));
});
afterAll(() => {
  indexer.stop();
  index.close();
  bare.close();
});

it('a search by the index finds what a search of all messages finds, whatever is looked for, with and without texts', async () => {
  await append('Archive', fc.sample(text, { numRuns: 700, seed: 7 }));
  const letters = fc.oneof(
    word,
    fc.tuple(word, word).map((two) => two.join(' ')),
    fc.constantFrom('', 'e', 'nu', 'voi', '本語', 'x*', '" OR "', 'nothing of it'),
  );
  const wanted = letters.map((one) => one.normalize('NFC').toLowerCase());
  const { key } = fc.letrec<{ key: SearchKey; leaf: SearchKey }>((tie) => ({
    leaf: fc.oneof(
      fc.record({ kind: fc.constant('header' as const), name: fc.constantFrom('subject', 'from', 'to', 'cc', 'x-other'), text: wanted }),
      fc.record({ kind: fc.constantFrom('text' as const, 'body' as const), text: wanted }),
      fc.constant({ kind: 'flag' as const, bit: 1, isSet: false }),
    ),
    key: fc.oneof(
      { maxDepth: 3 },
      tie('leaf'),
      fc.record({ kind: fc.constantFrom('and' as const, 'or' as const), keys: fc.array(tie('key'), { minLength: 1, maxLength: 3 }) }),
      fc.record({ kind: fc.constant('not' as const), key: tie('key') }),
    ),
  }));
  for (const withTexts of [false, true, false]) {
    await setTexts(withTexts);
    await follow('Archive');
    expect(index.state(folderOf('Archive').id)).toMatchObject({ uid: 700, texts: Number(withTexts) });
    expect(outlined.size).toBeGreaterThan(300);
    await fc.assert(
      fc.asyncProperty(key, async (one) => {
        const { plain, indexed } = await both('Archive', one);
        expect(indexed).toEqual(plain);
      }),
      { numRuns: 40 },
    );
  }
});

it('only what may fit is looked at, and what has come since; what is gone is taken out', async () => {
  await setTexts(true);
  const rare = 'Subject: a very rare gnu\r\n\r\nand an okapi\r\n';
  await append('Archive', [rare]);
  await follow('Archive');
  const gnu: SearchKey = { kind: 'header', name: 'subject', text: 'rare gnu' };
  const okapi: SearchKey = { kind: 'text', text: 'okapi' };
  expect(await both('Archive', gnu)).toEqual({ plain: [701], indexed: [701], looked: 1 });
  expect(await both('Archive', okapi)).toEqual({ plain: [701], indexed: [701], looked: 1 });
  // Not indexed yet.
  await append('Archive', [rare]);
  expect(await both('Archive', gnu)).toEqual({ plain: [701, 702], indexed: [701, 702], looked: 2 });
  const { id } = folderOf('Archive');
  await operate(bare.context, mailboxId, { kind: 'move', folder: id, uids: [[701, 701]], to: 'INBOX' });
  await follow('Archive');
  expect((await both('Archive', gnu)).indexed).toEqual([701]);
  expect(index.entries(id, 700, 9)).toEqual([702]);
  // Nobody remembers what was expunged: all entries are compared.
  await operate(bare.context, mailboxId, { kind: 'move', folder: id, uids: [[1, 10]], to: 'INBOX' });
  await bare.context.db.commit(() => bare.context.db.run('UPDATE folder SET forgotten_modseq = highest_modseq WHERE id = ?', id));
  await follow('Archive');
  expect(index.entries(id, 0, 1)).toEqual([11]);
  // The Inbox is too small to be worth it.
  await follow('INBOX');
  expect(index.state(folderOf('INBOX').id)).toBeNull();
});

it('a folder that is gone leaves nothing in the index, and all folders are found by themselves', async () => {
  await operate(bare.context, mailboxId, { kind: 'create', name: 'Short', specialUse: null });
  await append('Short', fc.sample(text, { numRuns: 600, seed: 8 }));
  const { id } = folderOf('Short');
  indexer.add('all');
  await indexer.quiet();
  expect(index.state(id)).toMatchObject({ uid: 600 });
  await operate(bare.context, mailboxId, { kind: 'delete', name: 'Short' });
  indexer.add('all');
  await indexer.quiet();
  expect([index.state(id), index.entries(id, 0, 10)]).toEqual([null, []]);
  expect(bare.faults).toEqual([]);
});

it('a broken index is thrown away and made anew; meanwhile searches look at all messages', async () => {
  const { id } = folderOf('Archive');
  indexer.stop();
  const file = join(bare.folder, 'search.db');
  expect(existsSync(file)).toBe(true);
  writeFileSync(file, 'this is no database'.repeat(1000));
  index = new SearchIndex(bare.folder);
  const gnu: SearchKey = { kind: 'header', name: 'subject', text: 'rare gnu' };
  const { plain, indexed } = await both('Archive', gnu);
  expect(indexed).toEqual(plain);
  const faults: string[] = [];
  indexer = new FolderIndexer(
    {
      db: bare.context.db,
      texts: new TextReader(bare.context.db, bare.folder),
      port,
      index,
      literals: new OctetBudget(1, () => 0),
      largeTexts: new OwnersGate(1e9),
      onFault: (_service, _client, error) => faults.push(String(error)),
    },
    index,
    new SearchWriter(bare.folder),
  );
  indexer.add([id]);
  await indexer.quiet();
  expect(faults).toEqual([expect.stringContaining('the index of folders could not be written')]);
  expect(index.state(id)).toMatchObject({ uid: 702 });
  expect((await both('Archive', gnu)).indexed).toEqual(plain);
});

it('a text that is longer than what is indexed of one is looked at every time', async () => {
  await setTexts(true);
  await append('Archive', [`Subject: long\r\n\r\n${'so much to say '.repeat(20_000)}and then a quagga\r\n`]);
  await follow('Archive');
  const { plain, indexed, looked } = await both('Archive', { kind: 'text', text: 'quagga' });
  expect([indexed, looked]).toEqual([plain, 1]);
  const wanted: Wanted = { kind: 'text', letters: 'no such word' };
  const found = [];
  for await (const { uids } of index.find(folderOf('Archive').id, wanted)) found.push(...uids);
  expect(found).toEqual([703]);
});
