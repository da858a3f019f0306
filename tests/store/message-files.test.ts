import { existsSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { Database } from '../../src/store/database.ts';
import { addMailbox } from '../../src/store/mailboxes.ts';
import { MessageFiles } from '../../src/store/message-files.ts';
import { MessageTexts } from '../../src/store/message-texts.ts';
import { deliverMessage, noteUnneeded } from '../../src/store/messages.ts';
import { DELIVERED } from '../support/delivered.ts';

let folder: string;
let db: Database;
beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), 'tenedor-store-'));
  db = Database.open(folder);
});
afterEach(() => {
  db.close();
  rmSync(folder, { recursive: true });
});

describe('message files', () => {
  it('one content is one file, whoever writes it and however often at once', async () => {
    const files = new MessageFiles(folder);
    const written = await Promise.all(Array.from({ length: 20 }, (_none, at) => files.write(Buffer.from(`text ${at % 4}`))));
    expect(new Set(written).size).toBe(4);
    expect((await files.read(written[1] ?? '')).toString()).toBe('text 1');
    expect(readdirSync(join(folder, 'messages/recent')).sort()).toEqual([...new Set(written)].sort());
  });
  const breathe = async (): Promise<void> => {};
  const sweep = (files: MessageFiles, unneeded: (name: string) => boolean): Promise<number> =>
    files.sweep(async (names) => names.filter(unneeded), breathe);

  it('the sweep takes what is not needed, but nothing that is being accepted', async () => {
    const files = new MessageFiles(folder);
    const [used, unused, held] = await Promise.all(['used', 'unused', 'held'].map((text) => files.write(Buffer.from(text))));
    files.release(used ?? '');
    files.release(unused ?? '');
    expect(await sweep(files, (name) => name !== used)).toBe(1);
    expect((await files.read(used ?? '')).toString()).toBe('used');
    expect((await files.read(held ?? '')).toString()).toBe('held');
    await expect(files.read(unused ?? '')).rejects.toThrow(/is gone/);
    files.release(held ?? '');
    expect(await sweep(files, (name) => name !== used)).toBe(1);
  });
  it('what was not needed for a day goes; what is needed again, or was noted by a clock ahead of time, begins anew', async () => {
    const DAY = 24 * 3_600_000;
    const look = (now: number) => db.commit(() => noteUnneeded(db, ['a', 'b'], now, now - DAY));
    expect(await look(10 * DAY)).toEqual([]);
    expect(await look(10.9 * DAY)).toEqual([]);
    expect(await look(5 * DAY)).toEqual([]);
    expect(await look(5.5 * DAY)).toEqual([]);
    expect(await look(6.1 * DAY)).toEqual(['a', 'b']);
  });
  it('strange files and folders neither stop a start nor are touched', async () => {
    const strange = ['messages/notes.txt', 'messages/recent/unfinished-by-somebody', `messages/recent/${'f'.repeat(64)}`, 'messages/77'];
    mkdirSync(join(folder, 'messages/recent'), { recursive: true });
    mkdirSync(join(folder, `messages/recent/${'e'.repeat(64)}`));
    mkdirSync(join(folder, 'messages/recent/unfinished-0123456789abcdef01234567'));
    for (const name of strange) writeFileSync(join(folder, name), 'not ours');
    const files = new MessageFiles(folder);
    const name = await files.write(Buffer.from('ours'));
    files.release(name);
    expect(await sweep(files, () => true)).toBe(1);
    for (const one of strange) expect(readFileSync(join(folder, one), 'utf8')).toBe('not ours');
    expect(existsSync(join(folder, `messages/recent/${'e'.repeat(64)}`))).toBe(true);
  });
  it('a file cut short by a crash is written anew; no name from outside is a path', async () => {
    const files = new MessageFiles(folder);
    const name = await files.write(Buffer.from('whole'));
    await sweep(files, () => false);
    const path = join(folder, 'messages/recent', name);
    files.release(name);
    await sweep(files, () => false);
    expect(existsSync(path)).toBe(false);
    writeFileSync(join(folder, 'messages', name.slice(0, 2), name.slice(2)), 'wh');
    writeFileSync(join(folder, 'messages/recent/unfinished-0123456789abcdef01234567'), 'h');
    const again = new MessageFiles(folder);
    expect(existsSync(join(folder, 'messages/recent/unfinished-0123456789abcdef01234567'))).toBe(false);
    await expect(again.read(name, 5)).rejects.toThrow(/is cut short/);
    expect(await again.write(Buffer.from('whole'))).toBe(name);
    expect((await again.read(name, 5)).toString()).toBe('whole');
    await expect(again.read('../../tenedor.db')).rejects.toThrow('not the name');
  });
});

describe('message texts', () => {
  const fresh = () => db.all<{ name: string }>('SELECT name FROM unfiled_text').map((row) => row.name);
  const fault = (error: unknown): never => {
    throw error;
  };
  let mailboxId: number;
  beforeEach(async () => {
    mailboxId = await db.commit(() => {
      db.run("INSERT INTO customer (name, created_at) VALUES ('c', 0)");
      db.run("INSERT INTO plan (name, quota_bytes, most_mailboxes, created_at) VALUES ('p', 1, 1, 0)");
      db.run("INSERT INTO domain (name, customer_id, plan_id, role, created_at) VALUES ('d.example', 1, 1, 'home', 0)");
      return addMailbox(db, { domainId: 1, local: 'a', passwordHash: '', quotaBytes: 1_000_000 }, 0);
    });
  });
  /** Accepts a text as the service does, into the mailbox or into nothing. */
  const accept = async (texts: MessageTexts, content: string, used: boolean): Promise<string> => {
    const text = await texts.hold(Buffer.from(content));
    await db.commit(() => {
      text.keep();
      if (used) deliverMessage(db, mailboxId, 'Inbox', { ...DELIVERED, file: text.name, size: content.length });
    });
    text.release(true);
    return text.name;
  };

  it('are durable with their commit, become files when needed, and are forgotten when not', async () => {
    const files = new MessageFiles(folder);
    const texts = new MessageTexts(db, files, fault);
    const used = await accept(texts, 'used', true);
    const unused = await accept(texts, 'unused', false);
    const large = await accept(texts, 'x'.repeat(300_000), true);
    expect(fresh().sort()).toEqual([used, unused].sort());
    expect(await files.read(large)).toHaveLength(300_000);
    // Another process after a crash: nothing in memory, the same texts.
    const after = new MessageTexts(db, new MessageFiles(folder), fault);
    expect((await after.read(used)).toString()).toBe('used');
    await after.settle();
    expect(fresh()).toEqual([]);
    expect((await files.read(used)).toString()).toBe('used');
    await expect(files.read(unused)).rejects.toThrow(/is gone/);
    expect((await after.read(used)).toString()).toBe('used');
  });

  it('while files can’t be written they stay where they are, readable, and become files later; nothing half written is left', async () => {
    const texts = new MessageTexts(db, new MessageFiles(folder), (error) => faults.push(String(error)));
    const faults: string[] = [];
    const names: string[] = [];
    for (let number = 0; number < 40; number += 1) names.push(await accept(texts, `text ${number}`, true));
    const recent = join(folder, 'messages/recent');
    // One of the later ones can't take its name: a folder stands there.
    const [obstacle = ''] = names.toSorted().slice(30);
    mkdirSync(join(recent, obstacle));
    await texts.settle();
    expect(faults.join()).toMatch(/could not be written as files/);
    expect(fresh()).toContain(obstacle);
    for (const [number, name] of names.entries()) expect((await texts.read(name)).toString()).toBe(`text ${number}`);
    expect(readdirSync(recent).filter((one) => one.startsWith('unfinished-'))).toEqual([]);
    rmSync(join(recent, obstacle), { recursive: true });
    await texts.settle();
    expect(fresh()).toEqual([]);
    expect(readdirSync(recent).sort()).toEqual(names.toSorted());
    await texts.stop();
  });

  it('a refused one leaves nothing; one that comes into use while it is settled stays', async () => {
    const texts = new MessageTexts(db, new MessageFiles(folder), fault);
    const refused = await texts.hold(Buffer.from('refused'));
    await db
      .commit(() => {
        refused.keep();
        throw new Error('no');
      })
      .catch(() => refused.release(false));
    expect(fresh()).toEqual([]);
    await accept(texts, 'same', false);
    const settled = texts.settle();
    const name = await accept(texts, 'same', true);
    await settled;
    expect((await texts.read(name)).toString()).toBe('same');
    await texts.settle();
    expect((await texts.read(name)).toString()).toBe('same');
    expect(fresh()).toEqual([]);
  });
});
