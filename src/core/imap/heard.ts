import { HIDDEN } from '../overhear.ts';
import type { WrittenCommand } from './command-reader.ts';

/** A command as it is heard: without passwords, and with literals only counted. */
export function heard({ tag, name, pieces }: WrittenCommand): string {
  if (name === 'LOGIN' || name === 'AUTHENTICATE') return `${tag} ${name} ${HIDDEN}`;
  return `${tag} ${name}${pieces.map((piece) => (typeof piece === 'string' ? piece : `(${piece.length} octets)`)).join('')}`;
}
