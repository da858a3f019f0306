import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import SQLite from 'better-sqlite3';
import { expect, it } from 'vitest';
import { Database } from '../../src/store/database.ts';
import { findDomain } from '../../src/store/domains.ts';
import { listDueOf } from '../../src/store/due-recipients.ts';
import { listEntries } from '../../src/store/journeys.ts';
import { KeyFile } from '../../src/store/key-file.ts';
import { chargedIn, listLedger } from '../../src/store/ledger.ts';
import { limitsOf } from '../../src/store/limits.ts';
import { MIGRATIONS } from '../../src/store/migrations.ts';
import { listOutlets } from '../../src/store/outlets.ts';
import { countQueue } from '../../src/store/queue.ts';
import { findJourneys, journeyRows } from '../../src/store/search.ts';
import { entryWords } from '../../src/texts/en/journal.ts';

it('a database of the version before keeps its limits, ledger, queue and secrets', async () => {
  const folder = mkdtempSync(join(tmpdir(), 'tenedor-upgrade-'));
  const old = new SQLite(join(folder, 'tenedor.db'));
  for (const migration of MIGRATIONS.slice(0, 2)) old.exec(migration);
  old.pragma('user_version = 2');
  old.exec(`
    INSERT INTO customer VALUES (1, 'Olmo', 0);
    INSERT INTO plan (id, name, hour_limit, day_limit, quota_bytes, most_mailboxes, created_at) VALUES (1, 'standard', 200, NULL, 1, 9, 0);
    INSERT INTO domain (id, name, customer_id, plan_id, role, hour_limit, day_limit, created_at)
      VALUES (1, 'as-plan.example', 1, 1, 'home', 200, NULL, 0), (2, 'own.example', 1, 1, 'home', 300, 50, 0), (3, 'open.example', 1, 1, 'home', NULL, NULL, 0);
    INSERT INTO mailbox VALUES (7, 2, 'ana', 'x', 1, 0, 0);
    INSERT INTO dkim_key (domain_id, selector, private_key, public_key, created_at, type, state) VALUES (2, 'k1', 'PEM OF OLD', 'pub', 0, 'rsa', 'active');
    INSERT INTO journey VALUES ('j1', 1000, 'submitted', 'accepted', 'ana@own.example', 'leo@out.example', 'Hello', 512, '192.0.2.9', 'own.example', 'f');
    INSERT INTO journey VALUES ('j2', 2000, 'received', 'accepted', 'x@far.example', 'fwd@own.example', 'Fwd', 300, '192.0.2.9', 'own.example', NULL);
    INSERT INTO recipient (journey_id, address, domain, state, next_attempt_at, changed_at) VALUES ('j1', 'leo@out.example', 'out.example', 'delayed', 5000, 1000);
    INSERT INTO journal (at, journey_id, domain, event, data) VALUES (1000, 'j1', 'own.example', 'accepted', '{"size":512,"recipients":1}'),
      (1001, 'j1', 'own.example', 'waiting', '{"recipient":"leo@out.example","reply":"full"}'), (1002, 'j1', 'own.example', 'steps', '[[1002,"completed",{"added":["Date"]}]]');
    INSERT INTO ledger VALUES (1, 1000, 2, 7, 'j1', 3), (2, 2000, 2, NULL, 'j2', 1);
    INSERT INTO network VALUES (1, '198.51.100.0/24', 'list', 0);
  `);
  old.close();
  const db = Database.open(folder);
  expect(limitsOf(db, 'plan', 1)).toEqual([{ period: 'hour', quantity: 'sends', amount: 200 }]);
  expect(limitsOf(db, 'domain', 1)).toEqual([]);
  expect(limitsOf(db, 'domain', 2)).toEqual([
    { period: 'hour', quantity: 'sends', amount: 300 },
    { period: 'day', quantity: 'sends', amount: 50 },
  ]);
  expect(limitsOf(db, 'domain', 3)).toEqual([{ period: 'hour', quantity: 'sends', amount: null }]);
  for (const scope of [
    { kind: 'server', id: 0 },
    { kind: 'customer', id: 1 },
    { kind: 'domain', id: 2 },
  ] as const)
    expect(chargedIn(db, scope, 0, 9999)).toEqual({ messages: 2, sends: 4, bytes: 812 });
  expect((await listLedger(db, { kind: 'domain', id: 2 }, { from: 0, to: 9999, limit: 9, offset: 0 })).lines).toMatchObject([
    { mailbox: null, kind: 'forwarded', sends: 1 },
    { mailbox: 'ana@own.example', kind: 'submitted', sends: 3 },
  ]);
  expect(countQueue(db)).toBe(1);
  expect(listDueOf(db, 'out.example', 9999, 9)).toMatchObject([{ address: 'leo@out.example', held: null, isCharged: true }]);
  // Events that are called otherwise now are read under their new names.
  expect(listEntries(db, 'j1').map((one) => entryWords(one.event, one.data))).toEqual([
    'accepted and stored, 512 bytes for 1 recipient',
    'leo@out.example: full',
    'added missing fields: Date',
  ]);
  expect(listOutlets(db)).toMatchObject([{ name: 'direct', kind: 'direct', isOn: true }]);
  expect(findDomain(db, 'own.example')).toMatchObject({ catchAll: null, twinOf: null });
  const query = { search: 'hello', domain: null, state: null, client: null, since: null, before: null, limit: 9 };
  expect(
    journeyRows(
      db,
      [...findJourneys(db, query)].flatMap((page) => page.found),
      9,
    ).map((one) => one.id),
  ).toEqual(['j1']);
  // Secrets that lay open are sealed; with another key file nothing starts.
  const keyFile = KeyFile.open(join(folder, 'secrets.key'));
  await keyFile.sealAll(db);
  const sealed = db.one<{ text: string }>('SELECT private_key AS text FROM dkim_key')?.text ?? '';
  expect(sealed).toMatch(/^sealed:/);
  expect(keyFile.open(sealed)).toBe('PEM OF OLD');
  await expect(KeyFile.open(join(folder, 'other.key')).sealAll(db)).rejects.toThrow(/sealed with another key file/);
  // A domain that goes takes its limits along, and leaves its ledger.
  await db.commit(() => db.run('DELETE FROM domain WHERE id = 2'));
  expect(limitsOf(db, 'domain', 2)).toEqual([]);
  expect(chargedIn(db, { kind: 'customer', id: 1 }, 0, 9999).sends).toBe(4);
  db.close();
  rmSync(folder, { recursive: true });
});

it('a mailbox of version 9 keeps its number, its mail, its devices and its limits, and is counted by messages for its domain', () => {
  const folder = mkdtempSync(join(tmpdir(), 'tenedor-upgrade-'));
  const old = new SQLite(join(folder, 'tenedor.db'));
  for (const migration of MIGRATIONS.slice(0, 9)) old.exec(migration);
  old.pragma('user_version = 9');
  old.exec(`
    INSERT INTO customer (id, name, created_at) VALUES (1, 'Olmo', 0);
    INSERT INTO plan (id, name, quota_bytes, most_mailboxes, created_at) VALUES (1, 'standard', 100, 9, 0);
    INSERT INTO domain (id, name, customer_id, plan_id, role, created_at) VALUES (2, 'own.example', 1, 1, 'home', 0), (3, 'bare.example', 1, 1, 'home', 0);
    INSERT INTO mailbox (id, domain_id, local, password_hash, quota_bytes, used_bytes, created_at) VALUES (7, 2, 'ana', 'x', 100, 30, 0), (8, 2, 'leo', 'x', 100, 5, 0);
    INSERT INTO folder (id, mailbox_id, name, uid_validity, messages, bytes) VALUES (70, 7, 'INBOX', 70, 2, 20), (71, 7, 'Archive', 71, 1, 10), (80, 8, 'INBOX', 80, 1, 5);
    INSERT INTO app_password (id, mailbox_id, name, hash, created_at) VALUES (1, 7, 'phone', 'h', 0);
    INSERT INTO sending_limit (scope, scope_id, period, quantity, amount) VALUES ('mailbox', 7, 'hour', 'sends', 5);
  `);
  old.close();
  const db = Database.open(folder);
  expect(db.all('SELECT id, used_messages AS messages, used_bytes AS bytes, removed_at AS removed FROM kept_mailbox ORDER BY id')).toEqual([
    { id: 7, messages: 3, bytes: 30, removed: null },
    { id: 8, messages: 1, bytes: 5, removed: null },
  ]);
  expect(db.all('SELECT domain_id AS domain, messages, bytes FROM domain_use ORDER BY domain_id')).toEqual([
    { domain: 2, messages: 4, bytes: 35 },
    { domain: 3, messages: 0, bytes: 0 },
  ]);
  const left = (): unknown[] =>
    ['folder', 'app_password', 'sending_limit'].map((table) => db.one<{ n: number }>(`SELECT count(*) AS n FROM ${table}`)?.n);
  expect(left()).toEqual([3, 1, 1]);
  return db
    .commit(() => db.run('DELETE FROM kept_mailbox WHERE id = 7'))
    .then(() => {
      // What goes with a mailbox still does.
      expect(left()).toEqual([1, 0, 0]);
      expect(db.one('SELECT messages, bytes FROM domain_use WHERE domain_id = 2')).toEqual({ messages: 1, bytes: 5 });
      db.close();
      rmSync(folder, { recursive: true });
    });
});
