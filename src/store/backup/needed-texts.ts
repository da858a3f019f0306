import { join } from 'node:path';

/** Texts that are files, and that somebody needs: a mailbox, a message that has not left, or one that is scored. */
export const NEEDED_TEXTS = `SELECT file FROM (SELECT file FROM message UNION SELECT file FROM trial WHERE file IS NOT NULL
  UNION SELECT j.file FROM journey j JOIN recipient r ON r.journey_id = j.id WHERE j.file IS NOT NULL AND r.next_attempt_at IS NOT NULL)
  WHERE file NOT IN (SELECT name FROM unfiled_text)`;

/** Where a text may lie in a data directory; it may be on its way from one to the other. */
export function placesOf(data: string, file: string): string[] {
  const folder = join(data, 'messages');
  return [join(folder, 'recent', file), join(folder, file.slice(0, 2), file.slice(2))];
}
