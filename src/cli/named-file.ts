import { readFileSync } from 'node:fs';
import { CommandError, EXIT } from './errors.ts';

const REASONS: Record<string, string> = {
  ENOENT: 'it is not there',
  ENOTDIR: 'it is not there',
  EISDIR: 'it is a folder',
  EACCES: 'you may not read it',
  ENAMETOOLONG: 'its name is too long',
  ERR_FS_FILE_TOO_LARGE: 'it is too large',
  ERR_STRING_TOO_LONG: 'it is too large',
};

/** Reads a file that the command names, as text. */
export function readNamedFile(file: string, remedy = 'Look at its name and rights.'): string {
  try {
    return readFileSync(file, 'utf8');
  } catch (error) {
    const { code = '', message } = error as NodeJS.ErrnoException;
    throw new CommandError(EXIT.usage, `The file ${file} can’t be read: ${REASONS[code] ?? message}.`, remedy);
  }
}
