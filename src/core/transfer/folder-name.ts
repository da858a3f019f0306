import { createHash } from 'node:crypto';
import { folderName, SEPARATOR, SHARED } from '../mailbox/folder-names.ts';

/** What a name may have that has to be shortened, so that there is room for its mark. */
const SHORTENED = 150;

/**
 * The name that a folder from elsewhere has here: the same, wherever it can be. What has to be changed gets a mark by the whole of the former name, so
 * that two folders never become one.
 */
export function nameHere(name: string): string {
  const parts = name.split(SEPARATOR).filter((part) => part !== '');
  // The names of what others share are not for one's own folders.
  if (parts[0] === SHARED && parts.length > 2) parts[0] = `${SHARED} folders`;
  const same = folderName(parts.join(SEPARATOR));
  if (same !== null) return same;
  const mark = createHash('sha256').update(name).digest('hex').slice(0, 8);
  const written = parts.map((part) => part.replace(/[\p{Cc}\p{Cs}\u2028\u2029]/gu, '_')).join(SEPARATOR);
  const whole = written === '' ? mark : `${written} ${mark}`;
  return (
    folderName(whole) ??
    folderName(
      `${[...written]
        .slice(0, SHORTENED)
        .join('')
        .replace(/[/ ]+$/, '')} ${mark}`,
    ) ??
    mark
  );
}
