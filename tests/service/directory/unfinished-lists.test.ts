import { cpSync, mkdtempSync, readdirSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, expect, it } from 'vitest';
import { loadLists, removeUnfinishedLists } from '../../../src/service/directory/lists/load.ts';
import { Database } from '../../../src/store/database.ts';
import { openBare } from '../../support/context.ts';

const bare = await openBare();
const copies = mkdtempSync(join(tmpdir(), 'tenedor-copies-'));
afterAll(() => {
  bare.close();
  rmSync(copies, { recursive: true });
});

/** All that lists add rows to. */
const rowsOf = (db: Database): unknown =>
  ['customer', 'domain', 'kept_mailbox', 'folder', 'alias', 'alias_target', 'domain_use', 'listed_row'].map((table) => [
    table,
    db.all(`SELECT * FROM ${table} ORDER BY 1, 2`),
  ]);

it('of lists that were cut short by a crash, wherever that was, the next start leaves nothing', async () => {
  const { context, folder } = bare;
  const { db } = context;
  await db.commit(() => db.run('UPDATE plan SET most_mailboxes = 1000'));
  const before = rowsOf(db);
  const domains = ['one.example', 'two.example'];
  const people = domains.flatMap((domain) => Array.from({ length: 150 }, (_one, at) => `m${at}@${domain},,,,also${at}`));
  let taken = 0;
  const result = await loadLists(
    context,
    {
      customers: 'customer\nOffice\n',
      domains: `domain,customer,plan\n${domains.map((one) => `${one},Office,p`).join('\n')}\n`,
      mailboxes: `address,name,quota,password,aliases\n${people.join('\n')}\n`,
    },
    false,
    // After each commit, what would lie on the disk if the service were killed now.
    () => {
      if (db.one('SELECT 1 FROM listed_row') === undefined) return;
      taken += 1;
      cpSync(folder, join(copies, String(taken)), { recursive: true });
    },
  );
  expect(result.faults).toEqual([]);
  expect(taken).toBeGreaterThanOrEqual(5);
  expect(db.all('SELECT 1 FROM listed_row')).toEqual([]);
  expect(db.all('SELECT 1 FROM mailbox')).toHaveLength(people.length + 1);
  for (const one of readdirSync(copies)) {
    const copy = Database.open(join(copies, one));
    expect(copy.all('SELECT 1 FROM listed_row')).not.toEqual([]);
    await removeUnfinishedLists(copy);
    expect(rowsOf(copy)).toEqual(before);
    copy.close();
  }
});
