import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import fc from 'fast-check';
import { afterAll, expect, it } from 'vitest';
import type { Place } from '../../../src/core/cursor.ts';
import { listed } from '../../../src/service/base/listed.ts';
import { Database } from '../../../src/store/database.ts';
import { readPage } from '../../../src/store/page.ts';

const folder = mkdtempSync(join(tmpdir(), 'tenedor-listed-'));
const db = Database.open(folder);
afterAll(() => {
  db.close();
  rmSync(folder, { recursive: true });
});
const THINGS = `(SELECT value ->> 'id' AS id, value ->> 'name' AS name, value ->> 'size' AS size FROM json_each(@all))`;

interface Thing {
  id: number;
  name: string;
  size: number | null;
}
const things = fc
  .array(fc.record({ name: fc.constantFrom('', 'a', 'B', 'b', 'a10', 'a9', 'é'), size: fc.option(fc.constantFrom(-1, 0, 1.5, 7)) }), {
    maxLength: 12,
  })
  .map((all) => all.map((one, id): Thing => ({ id, ...one })));
const asked = { search: '', offset: 0 };

type Pages = (
  all: readonly Thing[],
  part: { limit: number; reverse: boolean; after: Place | null },
) => Promise<{ rows: Thing[]; next: Place | null }>;
const READERS: Record<string, Pages> = {
  'of a table': async (all, part) => {
    const values = { all: JSON.stringify(all) };
    const source = { columns: 'id, name, size', from: THINGS, matches: 'true', values, order: ['size DESC', 'name', 'id'] };
    return readPage<Thing>(db, source, { ...asked, ...part });
  },
  'of rows at hand': (all, part) =>
    listed(all, { ...asked, ...part, sort: 'size' }, (one) => `${one.name} ${one.id}`, { size: (one) => one.size }),
};

it.each(Object.entries(READERS))(
  'pages %s hold each row that stays exactly once, whatever is removed between them',
  async (_name, read) => {
    await fc.assert(
      fc.asyncProperty(things, fc.array(fc.nat(11)), fc.integer({ min: 1, max: 4 }), fc.boolean(), async (all, removed, limit, reverse) => {
        const whole = await read(all, { limit: 100, reverse, after: null });
        const order = whole.rows.map((one) => one.id);
        let left = all;
        const seen: number[] = [];
        const gone = [...removed];
        for (let after: Place | null | undefined; after !== null; ) {
          const page = await read(left, { limit, reverse, after: after ?? null });
          seen.push(...page.rows.map((one) => one.id));
          after = page.next;
          const id = gone.pop();
          left = left.filter((one) => one.id !== id);
        }
        expect(whole.next).toBeNull();
        expect(new Set(seen).size).toBe(seen.length);
        expect(order.filter((id) => seen.includes(id))).toEqual(seen);
        for (const { id } of left) expect(seen).toContain(id);
      }),
    );
  },
);
