import { afterAll, expect, it } from 'vitest';
import { Upkeep } from '../../../src/service/app/upkeep.ts';
import { removeDomain } from '../../../src/service/directory/remove-domain.ts';
import { Archive } from '../../../src/service/journal/archive.ts';
import { journal } from '../../../src/service/journal/journeys.ts';
import { overview } from '../../../src/service/overview/overview.ts';
import { MessageFiles } from '../../../src/store/message-files.ts';
import { openBare } from '../../support/context.ts';
import { noteStatements, readWhole } from '../../support/whole-reads.ts';

const bare = await openBare();
afterAll(() => bare.close());

it('what is done again and again reads no table as a whole that grows with the mail', async () => {
  const { context } = bare;
  const notes = noteStatements();
  await bare.submit('ana@shop.example', ['bob@out.example']);
  const archive = new Archive(context, { keepDays: 1, mostEntries: 1, ledgerDays: 1 });
  await archive.work();
  const upkeep = new Upkeep(context, new MessageFiles(bare.folder));
  upkeep.start();
  await upkeep.stop();
  await overview(context, 0);
  const { rows } = journal(context, null, { limit: 1, before: null });
  journal(context, 'shop.example', { limit: 5, before: rows[0]?.seq ?? 0 });
  await removeDomain(context, 'shop.example');
  await archive.work();
  const statements = notes.end();
  expect(statements.length).toBeGreaterThan(40);
  expect(statements.flatMap((sql) => readWhole(context.db, sql).map((table) => `${table}: ${sql}`))).toEqual([]);
  // It would be noticed.
  expect(readWhole(context.db, 'SELECT min(seq) AS first, max(seq) AS last FROM journal')).toEqual(['journal']);
  expect(readWhole(context.db, 'SELECT m.id FROM folder f CROSS JOIN message m ON m.saved_at < ? WHERE f.id = ?')).toEqual(['message']);
});
