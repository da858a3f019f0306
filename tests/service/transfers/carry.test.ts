import { execFileSync } from 'node:child_process';
import { appendFileSync, existsSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { FLAGGED, SEEN } from '../../../src/core/mailbox/flags.ts';
import { mboxEntry } from '../../../src/core/transfer/mbox.ts';
import type { ExportOrder, TransferOrder } from '../../../src/core/transfer/order.ts';
import { addMailbox, changeMailbox, requireMailbox } from '../../../src/service/directory/mailboxes.ts';
import { deleteRemoved, listRemoved, removeMailbox } from '../../../src/service/directory/removed-mailboxes.ts';
import { operate } from '../../../src/service/mailbox/operate.ts';
import { transferAttention } from '../../../src/service/overview/machine-attention.ts';
import type { TransferDetails } from '../../../src/service/transfers/transfer-keeper.ts';
import { writeBackup } from '../../../src/store/backup/write-backup.ts';
import { findFolderNamed, listFolders, listMessages } from '../../../src/store/folders.ts';
import { type Bare, openBare } from '../../support/context.ts';

const AT = Date.UTC(2026, 10, 27, 12);
let bare: Bare;
let folder: string;

beforeEach(async () => {
  folder = mkdtempSync(join(tmpdir(), 'tenedor-carry-'));
  bare = await openBare({ folder: join(folder, 'data') });
  const { context } = bare;
  // The records of a zone file come from DNS, which has nothing here.
  context.dns.openViews = () => ({ source: context.lookup, sibling: context.lookup }) as never;
});
afterEach(() => {
  bare.context.db.close();
  rmSync(folder, { recursive: true, force: true });
});

const idOf = (address: string): number => requireMailbox(bare.context, address).id;

async function put(address: string, to: string, text: string, flags = 0, keywords = ''): Promise<void> {
  const id = idOf(address);
  if (!findFolderNamed(bare.context.db, id, to)) await operate(bare.context, id, { kind: 'create', name: to, specialUse: null });
  const messages = [{ text: Buffer.from(text), flags, keywords, internalDate: AT }];
  expect(await operate(bare.context, id, { kind: 'append', to, messages, instead: null })).toMatchObject({ kind: 'appended' });
}

/** Everything in a mailbox, as anybody could read it. */
async function contentOf(address: string): Promise<string[]> {
  const { db, texts } = bare.context;
  const found: string[] = [];
  for (const one of listFolders(db, idOf(address)))
    for (const message of listMessages(db, one.id, 1, one.nextUid, 1000)) {
      const text = message.prefix + (await texts.read(message.file)).toString('latin1');
      found.push([one.name, message.flags, message.keywords, message.internalDate, text].join('|'));
    }
  return found.sort();
}

async function carried(order: TransferOrder): Promise<TransferDetails> {
  const { transfers, db } = bare.context;
  const { id } = await transfers.begin(order, db);
  await transfers.over(id);
  expect(bare.faults).toEqual([]);
  return transfers.show(id);
}
const files = (path: string, into: string | null = 'ana@shop.example', below: string | null = null): TransferOrder => ({
  kind: 'files',
  path,
  into,
  folder: below,
});
const exported = (path: string, more: Partial<ExportOrder> = {}): TransferOrder => ({
  ...{
    kind: 'export',
    what: 'mailbox',
    name: 'ana@shop.example',
    path: join(folder, path),
    form: 'eml',
    isArchive: false,
    withHashes: false,
  },
  ...more,
});

describe('files', () => {
  it('an mbox and single messages, packed or not, come into folders of their names, each once', async () => {
    const old = join(folder, 'old');
    mkdirSync(join(old, 'Projects/2025'), { recursive: true });
    const one = mboxEntry(Buffer.from('Subject: 1\r\nStatus: R\r\n\r\nFrom him\r\n'), 'ana@shop.example', AT);
    const two = mboxEntry(Buffer.from('Subject: 2\r\n\r\n'), '', AT + 1000);
    // The same text twice in one folder is two messages.
    writeFileSync(join(old, 'INBOX.mbox'), Buffer.concat([one, two, two]));
    writeFileSync(join(old, 'Projects/2025/a.eml'), 'Subject: a\nDate: Fri, 27 Nov 2026 13:00:00 +0100\n\ntext\n');
    writeFileSync(join(old, 'Projects/2025/b.eml.gz'), gzipSync('Subject: b\r\nDate: Fri, 27 Nov 2026 12:00:00 +0000\r\n\r\n'));
    writeFileSync(join(old, 'Projects/notes.json'), '{"no": "mail"}');
    const first = await carried(files(old));
    expect(first).toMatchObject({ state: 'partly', taken: 5, known: 0, leftOut: 1, outcome: '5 messages copied, 1 left out.' });
    expect(first.leftOutList).toMatchObject([
      { what: join(old, 'Projects/notes.json'), why: 'It is neither a message (.eml) nor an mbox.' },
    ]);
    const whole = [
      `INBOX|${SEEN}||${AT}|Subject: 1\r\nStatus: R\r\n\r\nFrom him\r\n`,
      `INBOX|0||${AT + 1000}|Subject: 2\r\n\r\n`,
      `INBOX|0||${AT + 1000}|Subject: 2\r\n\r\n`,
      `Projects/2025|0||${AT}|Subject: a\r\nDate: Fri, 27 Nov 2026 13:00:00 +0100\r\n\r\ntext\r\n`,
      `Projects/2025|0||${AT}|Subject: b\r\nDate: Fri, 27 Nov 2026 12:00:00 +0000\r\n\r\n`,
    ].sort();
    expect(await contentOf('ana@shop.example')).toEqual(whole);
    expect(await carried(files(old))).toMatchObject({ taken: 0, known: 5, leftOut: 1 });
    expect(await contentOf('ana@shop.example')).toEqual(whole);
  });

  it('what is damaged, cut short, too large or leads elsewhere is left out with its reason', async () => {
    const odd = join(folder, 'odd');
    mkdirSync(odd);
    writeFileSync(join(odd, 'cut.eml.gz'), gzipSync('Subject: x\r\n'.repeat(1000)).subarray(0, 40));
    writeFileSync(join(odd, 'big.eml'), Buffer.alloc(1_000_001, 'x'));
    writeFileSync(join(odd, 'empty.eml'), '');
    writeFileSync(join(odd, 'empty.mbox'), '');
    execFileSync('ln', ['-s', '/etc/passwd', join(odd, 'passwd.mbox')]);
    const { state, taken, leftOutList } = await carried(files(odd));
    expect({ state, taken }).toEqual({ state: 'failed', taken: 0 });
    expect(leftOutList.map(({ what, why }) => `${what.slice(odd.length + 1)}: ${why}`)).toEqual([
      'big.eml: It is larger than the 1000000 octets that a message may have here.',
      expect.stringMatching(/^cut\.eml\.gz: It cannot be read completely: /),
      'empty.eml: It is empty.',
      'passwd.mbox: It is neither a file nor a folder.',
    ]);
    await expect(carried(files(join(folder, 'nowhere')))).rejects.toMatchObject({ detail: expect.stringContaining('There is no ') });
    await expect(carried(files('/dev/zero'))).rejects.toMatchObject({ detail: '/dev/zero is neither a file nor a folder.' });
    await expect(carried(files('old'))).rejects.toMatchObject({ detail: '“old” is not an absolute path.' });
    await expect(carried(files(odd, null))).rejects.toMatchObject({ remedy: 'Name the mailbox that gets them.' });
    await expect(carried(files(odd, 'nobody@shop.example'))).rejects.toMatchObject({ code: 'not-found' });
  });

  it('an archive is unpacked, and nothing of it leads out of its place', async () => {
    const inside = join(folder, 'inside');
    mkdirSync(inside);
    writeFileSync(join(inside, 'a.eml'), 'Subject: a\r\n\r\n');
    writeFileSync(join(folder, 'outside.eml'), 'Subject: outside\r\n\r\n');
    execFileSync('tar', ['-czPf', join(folder, 'mail.tgz'), '-C', inside, 'a.eml', '../outside.eml', join(folder, 'outside.eml')]);
    await carried(files(join(folder, 'mail.tgz')));
    expect((await contentOf('ana@shop.example')).filter((one) => one.includes('Subject: a'))).toHaveLength(1);
    writeFileSync(join(folder, 'torn.tgz'), readFileSync(join(folder, 'mail.tgz')).subarray(0, 60));
    expect(await carried(files(join(folder, 'torn.tgz')))).toMatchObject({
      state: 'failed',
      outcome: expect.stringContaining('can’t be unpacked'),
    });
    expect(readdirSync(bare.folder).filter((one) => one.startsWith('importing-'))).toEqual([]);
  });

  it('a full mailbox takes what fits, and goes on from there when it has room', async () => {
    const many = join(folder, 'many.mbox');
    for (let number = 0; number < 30; number += 1)
      appendFileSync(many, mboxEntry(Buffer.from(`Subject: ${number}\r\n\r\n${'x'.repeat(1000)}\r\n`), '', AT));
    await changeMailbox(bare.context, 'ana@shop.example', { quotaMessages: 20 });
    const full = await carried(files(many, undefined, 'Old'));
    expect(full).toMatchObject({ state: 'partly', taken: 20, outcome: '20 messages copied. ana@shop.example: The mailbox is full.' });
    await changeMailbox(bare.context, 'ana@shop.example', { quotaMessages: null });
    await bare.context.transfers.goOn(full.id, bare.context.db);
    await bare.context.transfers.over(full.id);
    expect(bare.context.transfers.show(full.id)).toMatchObject({ state: 'done', taken: 10, known: 20 });
    expect(await contentOf('ana@shop.example')).toHaveLength(30);
    await expect(bare.context.transfers.goOn(99, bare.context.db)).rejects.toMatchObject({ code: 'not-found' });
  });
});

it('what a stop of the service has cut off stands on the overview until somebody goes on with it', async () => {
  const { transfers, db, clock } = bare.context;
  writeFileSync(join(folder, 'a.eml'), 'Subject: a\r\n\r\n');
  const { id } = await carried(files(join(folder, 'a.eml')));
  await db.commit(() => db.run("UPDATE transfer SET state = 'under-way', ended_at = NULL WHERE id = ?", id));
  mkdirSync(join(bare.folder, 'importing-x'));
  await transfers.start();
  expect(existsSync(join(bare.folder, 'importing-x'))).toBe(false);
  expect(transferAttention(bare.context)).toMatchObject([
    { kind: 'transfer', headline: expect.stringContaining(`tenedor transfer resume ${id}`) },
  ]);
  await transfers.goOn(id, db);
  await transfers.over(id);
  expect(transferAttention(bare.context)).toEqual([]);
  expect(transfers.show(id)).toMatchObject({ state: 'done', known: 1, startedAt: clock.now() });
});

describe('an export', () => {
  beforeEach(async () => {
    await put('ana@shop.example', 'INBOX', 'Return-Path: <leo@out.example>\r\nSubject: one\r\n\r\nFrom there\r\n', SEEN, '$Label1 urgent');
    await put('ana@shop.example', 'Sent', 'Subject: two\r\n\r\n', FLAGGED);
    await put('ana@shop.example', 'Años/a.mbox/=1', 'Subject: three\r\n\r\n\xe9');
    await addMailbox(bare.context, { address: 'leo@shop.example', password: 'a calm harbour', quotaBytes: null });
    await put('leo@shop.example', 'INBOX', 'Subject: leo\r\n\r\n');
  });

  it.each([
    ['eml', false],
    ['mbox', false],
    ['eml', true],
    ['mbox', true],
  ] as const)(
    'in form %s, archive %s: out, into another mailbox, and out again gives the same messages and flags',
    async (form, isArchive) => {
      const path = `out${isArchive ? '.tar.gz' : ''}`;
      const first = await carried(exported(path, { form, isArchive }));
      expect(first).toMatchObject({ state: 'done', taken: 3, outcome: `3 messages written. All of it is in ${join(folder, path)}.` });
      if (!isArchive) execFileSync('sha256sum', ['--check', '--quiet', 'checksums.txt'], { cwd: join(folder, path) });
      await addMailbox(bare.context, { address: 'new@shop.example', password: null, quotaBytes: null });
      expect(await carried(files(join(folder, path), 'new@shop.example'))).toMatchObject({ state: 'done', taken: 3, known: 0 });
      expect(await contentOf('new@shop.example')).toEqual(await contentOf('ana@shop.example'));
      // Into where it came from, there is nothing to do.
      expect(await carried(files(join(folder, path), 'ana@shop.example'))).toMatchObject({ state: 'done', taken: 0, known: 3 });
      await carried(exported('again', { form, name: 'new@shop.example' }));
      const list = (place: string): string => readFileSync(join(folder, place, 'messages.csv'), 'utf8');
      if (!isArchive) expect(list('again/domains/shop.example/mail/new')).toBe(list('out/domains/shop.example/mail/ana'));
      const left = readdirSync(folder).filter((one) => /unfinished|part/.test(one));
      expect(left).toEqual([]);
    },
  );

  it('of a domain has its mailboxes in the form in which lists are loaded, aliases, records and checksums', async () => {
    expect(await carried(exported('all', { what: 'domain', name: 'shop.example', withHashes: true, form: 'mbox' }))).toMatchObject({
      mailboxes: 2,
      taken: 4,
    });
    const place = join(folder, 'all/domains/shop.example');
    expect(readFileSync(join(place, 'mailboxes.csv'), 'utf8')).toMatch(
      /^address,name,quota,hash,aliases\nana@.*\nleo@shop\.example,,1048576K,"?\$scrypt\$ln=15,r=8,p=1\$/,
    );
    expect(readFileSync(join(place, 'zone.txt'), 'utf8')).toContain('_dmarc');
    expect(JSON.parse(readFileSync(join(place, 'domain.json'), 'utf8'))).toMatchObject({
      name: 'shop.example',
      customer: 'c',
      role: 'home',
    });
    expect(JSON.parse(readFileSync(join(folder, 'all/manifest.json'), 'utf8'))).toMatchObject({ export: 1, what: 'domain', leftOut: 0 });
    // Brought in without a mailbox, each goes to its own address; one that is not there is told.
    await removeMailbox(bare.context, 'leo@shop.example');
    const back = await carried(files(join(folder, 'all'), null));
    expect(back).toMatchObject({
      state: 'partly',
      known: 3,
      taken: 0,
      outcome: expect.stringContaining('leo@shop.example: There is no mailbox leo@shop.example here.'),
    });
  });

  it('never takes another place, and what was changed in it is not brought in', async () => {
    mkdirSync(join(folder, 'full'));
    writeFileSync(join(folder, 'full/mine.txt'), 'mine');
    await expect(carried(exported('full'))).rejects.toMatchObject({ detail: expect.stringContaining('is not empty') });
    await expect(carried(exported('no/such'))).rejects.toMatchObject({ detail: expect.stringContaining('There is no folder') });
    // Nobody may write there, root neither.
    await expect(carried(exported('out', { path: '/proc/out' }))).rejects.toMatchObject({ detail: 'The service may not write to /proc.' });
    await expect(carried(exported('data/messages/out'))).rejects.toMatchObject({
      detail: expect.stringContaining('in the data directory'),
    });
    // Nobody's files are taken for what an export has left.
    mkdirSync(join(folder, 'out.unfinished-mine'));
    mkdirSync(join(folder, 'out.unfinished-ours'));
    writeFileSync(join(folder, 'out.unfinished-ours/.tenedor-export'), '');
    await carried(exported('out/'));
    expect(readdirSync(folder).sort()).toEqual(['data', 'full', 'out', 'out.unfinished-mine']);
    const message = join(folder, 'out/domains/shop.example/mail/ana/Sent/000001.eml');
    appendFileSync(message, 'forged');
    await addMailbox(bare.context, { address: 'new@shop.example', password: null, quotaBytes: null });
    const forged = await carried(files(join(folder, 'out'), 'new@shop.example'));
    expect(forged).toMatchObject({
      taken: 2,
      leftOut: 1,
      leftOutList: [{ what: 'Sent/000001.eml', why: 'It does not match its checksum.' }],
    });
    appendFileSync(join(folder, 'out/checksums.txt'), ' ');
    expect(await carried(files(join(folder, 'out'), 'new@shop.example'))).toMatchObject({
      state: 'failed',
      outcome: expect.stringContaining('checksums.txt does not match its checksum'),
    });
  });
});

describe('out of a backup', () => {
  const name = '2026-11-27T12-00-00Z';
  const recover = (whose: string, more: object = {}): TransferOrder => ({
    ...{ kind: 'recover', target: join(folder, 'backups'), backup: name, whose, folder: null, into: null, isWhole: false },
    ...more,
  });
  beforeEach(async () => {
    await put('ana@shop.example', 'INBOX', 'Subject: kept\r\n\r\n');
    await put('ana@shop.example', 'Invoices/2026', 'Subject: invoice\r\n\r\n', SEEN);
    await put('ana@shop.example', 'Invoices', `Subject: large\r\n\r\n${'x'.repeat(300_000)}`);
    await writeBackup({
      ...{ data: bare.folder, target: join(folder, 'backups'), host: 'mail.host.example', version: '0.1.0', at: AT, perSecond: 0 },
      ...{ keep: { daily: 2, weekly: 0, monthly: 0 }, key: null },
    });
  });

  it('what a mailbox has no more comes back beside what it has, with flags and dates; twice is harmless', async () => {
    const id = idOf('ana@shop.example');
    for (const one of ['Invoices/2026', 'Invoices']) await operate(bare.context, id, { kind: 'delete', name: one });
    expect(await carried(recover('ana@shop.example'))).toMatchObject({
      state: 'done',
      taken: 2,
      known: 1,
      outcome: '2 messages restored, 1 already there.',
    });
    const back = [
      `INBOX|0||${AT}|Subject: kept\r\n\r\n`,
      `Restored ${name}/Invoices/2026|${SEEN}||${AT}|Subject: invoice\r\n\r\n`,
      expect.stringContaining(`Restored ${name}/Invoices|0||${AT}|Subject: large`),
    ];
    expect(await contentOf('ana@shop.example')).toEqual(back);
    expect(await carried(recover('ana@shop.example'))).toMatchObject({ taken: 0, known: 3 });
    expect(await carried(recover('ana@shop.example', { isWhole: true, folder: 'INBOX' }))).toMatchObject({ taken: 1 });
    expect(await contentOf('ana@shop.example')).toContain(`Restored ${name}/Inbox|0||${AT}|Subject: kept\r\n\r\n`);
    expect(await carried(recover('ana@shop.example', { folder: 'Nothing' }))).toMatchObject({
      state: 'failed',
      outcome: expect.stringContaining('no folder “Nothing”'),
    });
  });

  it('a mailbox that is gone for good is there again as it was, with its password', async () => {
    await removeMailbox(bare.context, 'ana@shop.example');
    for (const { id } of listRemoved(bare.context, 'shop.example')) await deleteRemoved(bare.context, id);
    expect(await carried(recover('shop.example'))).toMatchObject({ state: 'done', taken: 3, known: 0 });
    expect(await contentOf('ana@shop.example')).toEqual([
      `INBOX|0||${AT}|Subject: kept\r\n\r\n`,
      `Invoices/2026|${SEEN}||${AT}|Subject: invoice\r\n\r\n`,
      expect.stringContaining('Invoices|0|'),
    ]);
  });

  it('into another mailbox; damaged texts are left out; nothing begins without backup, domain or mailbox', async () => {
    await addMailbox(bare.context, { address: 'leo@shop.example', password: null, quotaBytes: null });
    for (const one of readdirSync(join(folder, 'backups/texts')))
      for (const file of readdirSync(join(folder, 'backups/texts', one))) {
        const place = join(folder, 'backups/texts', one, file);
        rmSync(place);
        writeFileSync(place, 'damaged');
      }
    const { taken, leftOut, leftOutList } = await carried(recover('ana@shop.example', { into: 'leo@shop.example' }));
    expect(taken + leftOut).toBe(3);
    expect(leftOutList[0]?.why).toBe('Its text in the backup does not match its checksum.');
    expect(existsSync(join(bare.folder, 'recovering'))).toBe(false);
    await expect(carried(recover('ana@shop.example', { backup: '2026-11-26T12-00-00Z' }))).rejects.toMatchObject({ field: 'backup' });
    await expect(carried(recover('ana@other.example'))).rejects.toMatchObject({ code: 'not-found' });
    await expect(carried(recover('shop.example', { into: 'leo@shop.example' }))).rejects.toMatchObject({ field: 'into' });
    expect(await carried(recover('never@shop.example'))).toMatchObject({
      state: 'failed',
      outcome: expect.stringContaining('had no mailbox'),
    });
  });
});
