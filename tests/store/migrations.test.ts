import { createHash } from 'node:crypto';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import SQLite from 'better-sqlite3';
import { afterEach, beforeEach, expect, it } from 'vitest';
import { Database } from '../../src/store/database.ts';
import { KNOWN_TABLES, MIGRATIONS } from '../../src/store/migrations.ts';
import { tablesOf } from '../../src/store/open-data.ts';
import { readOutlines, removeOutline } from '../../src/store/outlines.ts';

/** What released versions made databases with. A change here would leave those databases behind: add a version instead. */
const FROZEN = [
  '4e874902ba547f3f023959fac20b395eb17d71dc0263a87bb3fdb38463638626',
  '941e0ceb0236c496c293aea563550caa65f6d43e3c3bc4bce8bdd668076da557',
  'fc4b6209b48e88856225e94566601242ae664e1594e933aff652347397185dc0',
  'e9a47ce2115f700f0323cc72d31dfa5e112c431bd12790c1b1ec10d7f39ed904',
  '42f17181f379fc82837481f0fb2be279079f213320af460b3bfb6bf8f8dc83e4',
  '5bb12f48132b34c78a0bb7b053ddb57a8d855ab50afc04256e92307f63501c10',
  '6d6b7a191df63266fb13bff339af8c5877a1b203d8844ff4c5a1a5107d3a6e43',
  '13e750f9ffd291081cf3c26ddfb2db8aed341ea6aae744212940e5f4abe3c158',
  '6f40a820309bd79c630638a6cab532f42ace922b34c108bb5a7830199db02a6f',
  '4ea9ec09571c9088323848a0f4d675d7879735f7238c076324c97623646e4307',
  'af3434e410229c4d827d6d006f09e2704a39ec80e3892b9322b64601b7b529b3',
  '3a36ab5129427c035506295dc12291e0ae88a9f59023909a5331498fa7297d85',
  '9f7ce0de982390cd8d77eaad01da071cc24c03d3f307d6107145bfd1b746ac86',
  '3cfca5025fb39799ea8f5663787d9937ede94fa12017697ec43047b9b59bd204',
  '3a0e064fe207a1448b045bcc6d4701251a3d18cf6618b5a832ac523915989f50',
  'c84da92435a7c8fd0e76090308aed3027485a35bcdd7a79deb975cc33d474e63',
  '8047bd6d8b3e51b693b4a2ee468ed822002f9c6965d5ff942bdfaeb33985d6bc',
  'efea864a6bde24cf692a5693d53ad8cbd394d36725d36d0fbd9e902843c2197b',
  '99ed7f386ac90b1c7f9c6eb3542bd177df8635a533ae57b67d91bc9620955474',
  '3486bd5649c07314ce9924e7692b220193cf0e3e0933fab62e18723d6cecb8fc',
  '44b52ca369e647fba7f393bf9f9194d0974324cbd89721eadd4fdf4068711008',
  '32b2612fd9cfd9148ee7e622028ec456870a4d5b9fd297c832a1655ef44747db',
  '1b5cde9fa8bb393469a8a8e9697a92a9000ac78929a11bdaea5b2b01f561f604',
  'fdca0e44a0d202eb965fb10e490bb1cb5740fa37f5d8ad22e7936c85fef7872d',
  'ea6fd6b484b270a2425ba2be2c8420774b001cb3f4c19bcc666dc6ea2cb0e70d',
];

let folder: string;
beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), 'tenedor-versions-'));
});
afterEach(() => rmSync(folder, { recursive: true }));

function make(version: number, more = ''): void {
  const old = new SQLite(join(folder, 'tenedor.db'));
  for (const migration of MIGRATIONS.slice(0, version)) old.exec(migration);
  old.pragma(`user_version = ${version}`);
  if (more !== '') old.exec(more);
  old.close();
}

it('migrations are frozen once they are released, and what they make is known', () => {
  expect(MIGRATIONS.map((text) => createHash('sha256').update(text).digest('hex'))).toEqual(FROZEN);
  expect(KNOWN_TABLES).toEqual({ version: MIGRATIONS.length, digest: tablesOf(MIGRATIONS.length) });
});

it.each(MIGRATIONS.slice(1).map((_, at) => at + 1))(
  'a database of version %i opens, is brought up to date, keeps what it has and can give space back',
  (version) => {
    make(
      version,
      `INSERT INTO customer (id, name, created_at) VALUES (7, 'Olmo', 0);
     INSERT INTO plan (id, name, quota_bytes, most_mailboxes, created_at) VALUES (3, 'standard', 1, 9, 0);
     INSERT INTO domain (id, name, customer_id, plan_id, role, created_at) VALUES (5, 'shop.example', 7, 3, 'home', 0);`,
    );
    const db = Database.open(folder);
    expect(db.one('SELECT d.name, c.name AS customer FROM domain d JOIN customer c ON c.id = d.customer_id')).toEqual({
      name: 'shop.example',
      customer: 'Olmo',
    });
    expect(db.one('PRAGMA user_version')).toEqual({ user_version: MIGRATIONS.length });
    expect(db.one('PRAGMA auto_vacuum')).toEqual({ auto_vacuum: 2 });
    db.close();
    // Once more: nothing is done twice.
    Database.open(folder).close();
  },
);

it('numbers go on after the largest that there ever was, in the ledger too', async () => {
  make(
    4,
    `INSERT INTO customer (id, name, created_at) VALUES (7, 'Olmo', 0);
     INSERT INTO plan (id, name, quota_bytes, most_mailboxes, created_at) VALUES (3, 'standard', 1, 9, 0);
     INSERT INTO domain (id, name, customer_id, plan_id, role, created_at) VALUES (5, 'shop.example', 7, 3, 'home', 0);
     INSERT INTO ledger (at, customer_id, domain_id, domain, kind, journey_id, messages, sends, bytes) VALUES (1, 7, 5, 'shop.example', 'submitted', 'j', 1, 1, 1);`,
  );
  const db = Database.open(folder);
  expect(
    await db.commit(() => [db.nextNumber('customer'), db.nextNumber('domain'), db.nextNumber('domain'), db.nextNumber('mailbox')]),
  ).toEqual([8, 6, 7, 1]);
  // Removed, and made again: another number.
  await db.commit(() => db.run('DELETE FROM domain WHERE id = 5'));
  expect(db.one('SELECT domain_id FROM ledger')).toEqual({ domain_id: 5 });
  db.close();
});

it('what is known of texts stays whole when it is parted, and goes as one', async () => {
  const columns = ['envelope', 'body_structure', 'body', 'keys', 'thread', 'preview', 'header', 'parts'];
  const of = (file: string): string =>
    columns.map((one) => `'${one === 'keys' || one === 'parts' ? '{}' : `${one} of ${file}`}'`).join(', ');
  make(
    22,
    ['a', 'b']
      .map((file, at) => `INSERT INTO outline (id, file, ${columns.join(', ')}) VALUES (${7 + at}, '${file}', ${of(file)});`)
      .join(''),
  );
  const db = Database.open(folder);
  const read = () => readOutlines(db, [7, 8], ['envelope', 'bodyStructure', 'body', 'keys', 'thread', 'preview', 'header', 'parts']);
  expect(read().get(8)).toEqual({
    envelope: 'envelope of b',
    bodyStructure: 'body_structure of b',
    body: 'body of b',
    keys: {},
    thread: 'thread of b',
    preview: 'preview of b',
    header: 'header of b',
    parts: {},
  });
  await db.commit(() => removeOutline(db, 'b'));
  expect([...read().keys()]).toEqual([7]);
  expect(db.one('SELECT count(*) AS lines FROM outline_line')).toEqual({ lines: 1 });
  db.close();
});

it.each([
  ['a table more', 4, 'CREATE TABLE strange (id INTEGER)'],
  ['a column less', 5, 'ALTER TABLE journal DROP COLUMN actor'],
  ['no tables, but a version', 0, 'PRAGMA user_version = 3'],
  ['tables, but no version', 2, 'PRAGMA user_version = 0'],
])('a database with %s than its version says is refused with a sentence', (_what, version, more) => {
  make(version, more);
  expect(() => Database.open(folder)).toThrow(/claims version \d, but its tables differ.*Restore it from a backup\.$/s);
});

it('a newer database is refused', () => {
  make(5, 'PRAGMA user_version = 99');
  expect(() => Database.open(folder)).toThrow(/has version 99; this Tenedor knows versions up to/);
});
