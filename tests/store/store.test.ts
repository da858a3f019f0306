import { existsSync, mkdirSync, mkdtempSync, rmSync, statSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import SQLite from 'better-sqlite3';
import fc from 'fast-check';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { Database } from '../../src/store/database.ts';
import { findDomain } from '../../src/store/domains.ts';
import { forgetExpunged, removeOutdated } from '../../src/store/folder-upkeep.ts';
import { findPrivateKeys, listKeys } from '../../src/store/keys.ts';
import { addMailbox } from '../../src/store/mailboxes.ts';
import { deliverMessage, emptyMailbox, removeStored } from '../../src/store/messages.ts';
import { MIGRATIONS } from '../../src/store/migrations.ts';
import { StoreError } from '../../src/store/open-data.ts';
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

const addCustomer = (name: string) => db.run('INSERT INTO customer (name, created_at) VALUES (?, 0)', name);
const names = () => db.all<{ name: string }>('SELECT name FROM customer ORDER BY name').map((row) => row.name);

describe('the commit queue', () => {
  it('runs what waits in one transaction, and rolls back alone what throws', async () => {
    const results = await Promise.allSettled([
      db.commit(() => addCustomer('a').changes),
      db.commit(() => {
        addCustomer('b');
        throw new Error('no');
      }),
      db.commit(() => {
        // Inside the same transaction the work before is visible already.
        expect(names()).toEqual(['a']);
        return addCustomer('c').changes;
      }),
      db.commit(() => addCustomer('a')),
    ]);
    expect(results.map((one) => one.status)).toEqual(['fulfilled', 'rejected', 'fulfilled', 'rejected']);
    expect(names()).toEqual(['a', 'c']);
  });
  it('writes only inside of it', () => {
    expect(() => addCustomer('x')).toThrow('outside of commit');
  });
  it('any pieces of work, failing or not, come to what they would have come to alone', async () => {
    // Each adds some customers, and may fail after so many of them: by its own error, or by a name that is taken.
    const piece = fc.record({
      adds: fc.array(fc.constantFrom('a', 'b', 'c', 'd', 'e'), { maxLength: 3 }),
      fails: fc.boolean(),
      isRepeatable: fc.boolean(),
    });
    await fc.assert(
      fc.asyncProperty(fc.array(piece, { maxLength: 6 }), async (pieces) => {
        await db.commit(() => db.run('DELETE FROM customer'));
        const told: string[] = [];
        db.onCommit = (changes) => told.push(...changes.map(({ kind, what }) => `${kind} ${what}`));
        const expected = new Set<string>();
        const outcomes = pieces.map(({ adds, fails }) => {
          const isGood = !fails && new Set(adds).size === adds.length && adds.every((name) => !expected.has(name));
          if (isGood) for (const name of adds) expected.add(name);
          return isGood ? 'fulfilled' : 'rejected';
        });
        const results = await Promise.allSettled(
          pieces.map(({ adds, fails, isRepeatable }) =>
            db.commit(
              () => {
                for (const name of adds) addCustomer(name);
                if (fails) throw new Error('no');
              },
              { isRepeatable },
            ),
          ),
        );
        expect(results.map((one) => one.status)).toEqual(outcomes);
        expect(names()).toEqual([...expected].sort());
        // What was undone, or done again, is told once.
        expect(told).toEqual([...expected].map(() => 'customer added'));
      }),
      { numRuns: 80 },
    );
  });
  it('when the transaction itself can’t be finished, everybody is told, and the next one works', async () => {
    const results = await Promise.allSettled([
      db.commit(() => addCustomer('a')),
      // What the system does when the disk is full: everything is undone, and no transaction is left.
      db.commit(() => {
        db.run('ROLLBACK');
        throw new Error('the disk is full');
      }),
      db.commit(() => addCustomer('b')),
    ]);
    expect(results.map((one) => one.status)).toEqual(['rejected', 'rejected', 'rejected']);
    await db.commit(() => addCustomer('c'));
    expect(names()).toEqual(['c']);
  });
  it('closing finishes what waits; afterwards it takes nothing', async () => {
    const waiting = db.commit(() => addCustomer('last').changes);
    db.close();
    expect(await waiting).toBe(1);
    await expect(db.commit(() => 1)).rejects.toThrow('closed');
    db = Database.open(folder);
    expect(names()).toEqual(['last']);
  });
});

describe('long reads', () => {
  // A million rows made up: some hundred milliseconds of work.
  const LONG = 'WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 1000000) SELECT max(i) AS most FROM n';

  it('others have their turns meanwhile, and what is committed is seen', async () => {
    await db.commit(() => addCustomer('a'));
    let turns = 0;
    let isOver = false;
    const turn = (): void => {
      turns += 1;
      if (!isOver) setImmediate(turn);
    };
    turn();
    expect(await db.allSlowly(LONG)).toEqual([{ most: 1_000_000 }]);
    isOver = true;
    // Read here, it would be one turn.
    expect(turns).toBeGreaterThan(20);
    expect(await db.allSlowly('SELECT name FROM customer WHERE name = @name', { name: 'a' })).toEqual([{ name: 'a' }]);
  });

  it('what can’t be answered is an error for who asked, and for nobody else; nothing is written that way', async () => {
    const asked = await Promise.allSettled([
      db.allSlowly('SELECT nonsense'),
      db.allSlowly("INSERT INTO customer (name, created_at) VALUES ('x', 0)"),
      db.allSlowly('SELECT 1 AS one'),
    ]);
    expect(asked.map((one) => one.status)).toEqual(['rejected', 'rejected', 'fulfilled']);
    expect(names()).toEqual([]);
    const late = db.allSlowly(LONG);
    db.close();
    await expect(late).rejects.toThrow('the database is closed');
    // All is in the database itself, as after any clean stop.
    expect(existsSync(join(folder, 'tenedor.db-wal'))).toBe(false);
    db = Database.open(folder);
  });
});

it('keeps answers about customers until one changes, and none that was read in a change that may be undone', async () => {
  let reads = 0;
  const kept = (): string[] =>
    db.kept('names', () => {
      reads += 1;
      return names();
    });
  expect([kept(), kept(), reads]).toEqual([[], [], 1]);
  await db.commit(() => db.run("INSERT INTO webhook (url, secret, events, created_at) VALUES ('https://hook.example/', 's', '', 0)"));
  expect([kept(), reads]).toEqual([[], 1]);
  const undone = db.commit(() => {
    addCustomer('a');
    expect(kept()).toEqual(['a']);
    throw new Error('no');
  });
  await expect(undone).rejects.toThrow('no');
  expect([kept(), reads]).toEqual([[], 3]);
  await db.commit(() => addCustomer('b'));
  expect([kept(), kept(), reads]).toEqual([['b'], ['b'], 4]);
  // What a check writes of a domain is in no such answer; what is written of it otherwise is.
  const plan = await db.commit(() => db.run("INSERT INTO plan (name, quota_bytes, most_mailboxes, created_at) VALUES ('p', 1, 1, 0)").id);
  await db.commit(() =>
    db.run("INSERT INTO domain (name, customer_id, plan_id, role, created_at) SELECT 'a.example', id, ?, 'home', 0 FROM customer", plan),
  );
  expect([kept(), reads]).toEqual([['b'], 5]);
  await db.commit(() => db.run("UPDATE domain SET dmarc_seen = 'v=DMARC1', dmarc_seen_since = 1"));
  expect([kept(), reads]).toEqual([['b'], 5]);
  await db.commit(() => db.run("UPDATE domain SET judge = 'note'"));
  expect([kept(), reads]).toEqual([['b'], 6]);
});

it('takes a database of the first version over: the newest key signs, older ones are retired, checks begin anew', () => {
  const older = join(folder, 'older');
  mkdirSync(older);
  const first = new SQLite(join(older, 'tenedor.db'));
  first.exec(MIGRATIONS[0] ?? '');
  first.pragma('user_version = 1');
  first.exec(`
    INSERT INTO customer (name, created_at) VALUES ('c', 0);
    INSERT INTO plan (name, quota_bytes, most_mailboxes, created_at) VALUES ('p', 1, 1, 0);
    INSERT INTO domain (name, customer_id, plan_id, role, created_at) VALUES ('d.example', 1, 1, 'home', 5);
    INSERT INTO dkim_key (domain_id, selector, private_key, public_key, created_at) VALUES (1, 'old', 'pem', 'p1', 7), (1, 'new', 'pem', 'p2', 8);
    INSERT INTO check_result (domain_id, checked_at, findings) VALUES (1, 9, '[]');
  `);
  first.close();
  for (const _again of [1, 2]) {
    const taken = Database.open(older);
    expect(findDomain(taken, 'd.example')).toMatchObject({ judge: 'enforce', dmarcStage: 'none', dmarcSeen: null });
    expect(listKeys(taken, 1).map(({ selector, state, type, changedAt }) => [selector, state, type, changedAt])).toEqual([
      ['old', 'retired', 'rsa', 7],
      ['new', 'active', 'rsa', 8],
    ]);
    expect(findPrivateKeys(taken, 1).map((one) => one.selector)).toEqual(['new']);
    expect(taken.all('SELECT * FROM check_result')).toEqual([]);
    taken.close();
  }
});

it('is durable and guarded: WAL, full sync, foreign keys, one process, private files', () => {
  for (const [pragma, value] of [
    ['journal_mode', 'wal'],
    ['synchronous', 2],
    ['foreign_keys', 1],
  ] as const)
    expect(db.one<Record<string, unknown>>(`PRAGMA ${pragma}`)?.[pragma]).toBe(value);
  expect(() => Database.open(folder)).toThrow(StoreError);
  expect(statSync(folder).mode & 0o777).toBe(0o700);
  expect(statSync(join(folder, 'tenedor.db')).mode & 0o777).toBe(0o600);
});

it('what is taken out of a mailbox comes off its quota, in pieces where it is much, and nothing of another mailbox goes', async () => {
  await db.commit(() => {
    db.run(`INSERT INTO customer (id, name, created_at) VALUES (1, 'c', 0)`);
    db.run(`INSERT INTO plan (id, name, quota_bytes, most_mailboxes, created_at) VALUES (1, 'p', 1, 9, 0)`);
    db.run(`INSERT INTO domain (id, name, customer_id, plan_id, role, created_at) VALUES (1, 'shop.example', 1, 1, 'home', 0)`);
    for (const [id, local] of [
      [1, 'ana'],
      [2, 'li'],
    ] as const)
      expect(addMailbox(db, { domainId: 1, local, passwordHash: 'x', quotaBytes: 1_000_000 }, 0)).toBe(id);
    for (let number = 0; number < 1300; number += 1)
      deliverMessage(db, 1 + (number % 2), number % 3 === 0 ? 'Junk' : 'Inbox', { ...DELIVERED, file: `f${number}` });
  });
  const state = () =>
    db.all(
      'SELECT id, used_bytes AS used, (SELECT sum(messages) FROM folder f WHERE f.mailbox_id = m.id) AS messages FROM mailbox m ORDER BY id',
    );
  const [first, second] = db.all<{ id: number }>('SELECT id FROM message ORDER BY id LIMIT 2').map((row) => row.id);
  // The second is another mailbox's, and one of them is named twice.
  expect(await db.commit(() => removeStored(db, 1, [first ?? 0, first ?? 0, second ?? 0, 999_999]))).toBe(1);
  expect(state()).toEqual([
    { id: 1, used: 6490, messages: 649 },
    { id: 2, used: 6500, messages: 650 },
  ]);
  await emptyMailbox(db, 1);
  expect(state()).toEqual([
    { id: 1, used: 0, messages: 0 },
    { id: 2, used: 6500, messages: 650 },
  ]);
});

it('junk is taken away when it is old, and its room given back; the Inbox stays', async () => {
  const mailboxId = await db.commit(() => {
    db.run('INSERT INTO customer (name, created_at) VALUES (?, 0)', 'j');
    db.run(`INSERT INTO plan (name, quota_bytes, most_mailboxes, created_at) VALUES ('p', 1, 1, 0)`);
    db.run(`INSERT INTO domain (name, customer_id, plan_id, role, created_at) VALUES ('j.example', 1, 1, 'home', 0)`);
    return addMailbox(db, { domainId: 1, local: 'a', passwordHash: '', quotaBytes: 1_000_000 }, 0);
  });
  const day = 86_400_000;
  await db.commit(() => {
    for (const [folder, at] of [
      ['Junk', 1],
      ['Junk', 2 * day],
      ['Inbox', 1],
    ] as const)
      deliverMessage(db, mailboxId, folder, { ...DELIVERED, savedAt: at });
  });
  expect(await removeOutdated(db, 31 * day)).toBe(1);
  expect(db.all('SELECT f.name, m.saved_at AS at FROM message m JOIN folder f ON f.id = m.folder_id ORDER BY m.id')).toEqual([
    { name: 'Junk', at: 2 * day },
    { name: 'INBOX', at: 1 },
  ]);
  expect(db.one('SELECT used_bytes AS used FROM mailbox')).toEqual({ used: 20 });
  // What has gone is remembered, the newest so many of each folder.
  await db.commit(() => {
    for (const at of [3, 4]) deliverMessage(db, mailboxId, 'Junk', { ...DELIVERED, savedAt: at * day });
  });
  expect(await removeOutdated(db, 90 * day, () => true)).toBe(0);
  expect(await removeOutdated(db, 90 * day)).toBe(3);
  const remembered = () =>
    db.one(
      `SELECT count(*) AS messages, f.forgotten_modseq AS forgotten, f.forgotten_modseq < min(e.modseq) AS isBefore
       FROM expunged e JOIN folder f ON f.id = e.folder_id WHERE f.name = 'Junk'`,
    );
  expect(remembered()).toMatchObject({ messages: 4, forgotten: 0 });
  await forgetExpunged(db, 4, () => false);
  expect(remembered()).toMatchObject({ messages: 4, forgotten: 0 });
  await forgetExpunged(db, 1, () => false);
  expect(remembered()).toMatchObject({ messages: 1, isBefore: 1 });
});
