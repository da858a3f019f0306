import { vi } from 'vitest';
import type { Database } from '../../src/store/database.ts';
import { Statements } from '../../src/store/statements.ts';

/** Tables with a row for each message, event or guess: on the main thread, none of them may be read as a whole. */
const GROWING = new Set(
  (
    'journal journey message recipient ledger outlet_charge outline outline_line expunged unfiled_text unneeded_text known_recipient ' +
    'finding_change send_outcome sign_in_failure sign_in_place trial taken_message kept_mailbox'
  ).split(' '),
);
/** Scans that end after some rows: they go by the order of the table itself. */
const IS_BOUNDED = /FROM (?:ledger|outlet_charge) ORDER BY seq LIMIT|FROM recipient ORDER BY id DESC LIMIT 1/;

/** What stands for each table in a statement, by its own name or by another. */
function tablesIn(sql: string): Map<string, string> {
  const tables = new Map<string, string>();
  const names = /\b(?:FROM|JOIN|UPDATE|INTO)\s+(\w+)(?:\s+(?:AS\s+)?(?!WHERE|SET|ON|JOIN|CROSS|LEFT|ORDER|LIMIT)(\w+))?/g;
  for (const [, table = '', alias = table] of sql.matchAll(names)) tables.set(alias, table).set(table, table);
  return tables;
}

/** The growing tables that a statement goes through from end to end. */
export function readWhole(db: Database, sql: string): string[] {
  if (IS_BOUNDED.test(sql)) return [];
  const named = Object.fromEntries([...sql.matchAll(/[@:](\w+)/g)].map(([, name]) => [name, null]));
  const unnamed = [...sql.matchAll(/\?/g)].map(() => null);
  const tables = tablesIn(sql);
  return db
    .all<{ detail: string }>(`EXPLAIN QUERY PLAN ${sql}`, ...unnamed, ...(Object.keys(named).length === 0 ? [] : [named as never]))
    .flatMap(({ detail }) => /^SCAN (\w+)/.exec(detail)?.[1] ?? [])
    .map((name) => tables.get(name) ?? name)
    .filter((table) => GROWING.has(table));
}

/** Notes each statement that is asked for on this thread, until `end`, which returns them. */
export function noteStatements(): { end: () => string[] } {
  const asked = new Set<string>();
  const of = Statements.prototype.of;
  const spy = vi.spyOn(Statements.prototype, 'of').mockImplementation(function (this: Statements, sql: string) {
    asked.add(sql);
    return of.call(this, sql);
  });
  return {
    end: () => {
      spy.mockRestore();
      return [...asked].filter((sql) => /^\s*(?:SELECT|DELETE|UPDATE|INSERT|WITH)\b/.test(sql));
    },
  };
}
