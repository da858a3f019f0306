import { HIDDEN, NOT_A_COMMAND } from '../overhear.ts';
import type { WrittenCommand } from './command-reader.ts';

/** A command as it is heard: without passwords, and with literals only counted. What is none may be a password that came in the wrong place. */
export function heard({ tag, name, pieces }: WrittenCommand, isKnown: boolean): string {
  if (!isKnown) return NOT_A_COMMAND;
  if (name === 'LOGIN' || name === 'AUTHENTICATE') return `${tag} ${name} ${HIDDEN}`;
  return `${tag} ${name}${pieces.map((piece) => (typeof piece === 'string' ? piece : `(${piece.length} octets)`)).join('')}`;
}
