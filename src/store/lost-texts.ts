import type { Database } from './database.ts';
import type { Readable } from './read-database.ts';

/** A message's text that should be there and is gone, or cut short, as it was found first. */
export interface LostText {
  file: string;
  how: string;
  journeyId: string;
  at: number;
}

/** False when it is known already. */
export const addLost = (db: Database, lost: LostText): boolean =>
  db.run('INSERT OR IGNORE INTO lost_text (file, how, journey_id, at) VALUES (?, ?, ?, ?)', lost.file, lost.how, lost.journeyId, lost.at)
    .changes === 1;
export const listLost = (db: Database, limit: number): LostText[] =>
  db.all<LostText>('SELECT file, how, journey_id AS journeyId, at FROM lost_text ORDER BY at DESC LIMIT ?', limit);
export const countLost = (db: Readable): number => db.one<{ n: number }>('SELECT count(*) AS n FROM lost_text')?.n ?? 0;
/** It is whole again, or nothing needs it any more. */
export const removeLost = (db: Database, file: string) => db.run('DELETE FROM lost_text WHERE file = ?', file);
