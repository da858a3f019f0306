import type { Database } from './database.ts';

export function readSetting<T>(db: Database, name: string): T | null {
  const found = db.one<{ value: string }>('SELECT value FROM setting WHERE name = ?', name);
  return found ? (JSON.parse(found.value) as T) : null;
}

export const keepSetting = (db: Database, name: string, value: unknown) =>
  db.run('INSERT INTO setting (name, value) VALUES (?, ?) ON CONFLICT DO UPDATE SET value = excluded.value', name, JSON.stringify(value));
