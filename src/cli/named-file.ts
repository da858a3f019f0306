import { readFileSync } from 'node:fs';
import { CommandError, EXIT } from './errors.ts';

const REASONS: Record<string, string> = {
  ENOENT: 'it does not exist',
  ENOTDIR: 'it does not exist',
  EISDIR: 'it is a directory',
  EACCES: 'you are not allowed to read it',
  ENAMETOOLONG: 'its name is too long',
  ERR_FS_FILE_TOO_LARGE: 'it is too large',
  ERR_STRING_TOO_LONG: 'it is too large',
};

/** Reads a list that the command names: in UTF-8, or as spreadsheets write it, in UTF-16 with its mark or in the Western charset (windows-1252). */
export function readNamedList(file: string): string {
  const octets = readOctets(file, 'Name a file of CSV.');
  const [first, second] = octets;
  if (first === 0xff && second === 0xfe) return new TextDecoder('utf-16le').decode(octets);
  if (first === 0xfe && second === 0xff) return new TextDecoder('utf-16be').decode(octets);
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(octets);
  } catch {
    return new TextDecoder('windows-1252').decode(octets);
  }
}

/** Reads a file that the command names, as text. */
export const readNamedFile = (file: string, remedy = 'Check its name and permissions.'): string =>
  readOctets(file, remedy).toString('utf8');

function readOctets(file: string, remedy: string): Buffer {
  try {
    return readFileSync(file);
  } catch (error) {
    const { code = '', message } = error as NodeJS.ErrnoException;
    throw new CommandError(EXIT.usage, `The file ${file} can’t be read: ${REASONS[code] ?? message}.`, remedy);
  }
}
