import { bodyOffset } from './fields.ts';

/** Names that programs act on, in letters only. */
const ACTED_ON = new Map([
  ['from', 'from'],
  ['sender', 'sender'],
  ['authenticationresults', 'authentication-results'],
]);

/**
 * What is wrong with a header as RFC 5322 §2.2 has it, as far as readers would differ about it: a line that is no field, and a name that is
 * nearly one that programs act on. Null when nothing is.
 */
export function headerFault(message: Buffer): string | null {
  const end = bodyOffset(message);
  const header = message.toString('latin1', 0, end);
  for (const raw of header.split(/\r\n(?![ \t])/)) {
    if (raw === '') continue;
    const colon = raw.indexOf(':');
    // §2.2: printable ASCII without colon; §4.5 allows spaces behind it.
    const name = /^[\x21-\x39\x3b-\x7e]+(?=[ \t]*$)/.exec(raw.slice(0, Math.max(0, colon)))?.[0];
    if (name === undefined) return `The header has a line that is not a field: "${shown(raw)}"`;
    const meant = ACTED_ON.get(name.toLowerCase().replace(/[^a-z]/g, ''));
    if (meant !== undefined && name.toLowerCase() !== meant) return `The header has a field that only looks like ${meant}: "${shown(raw)}"`;
  }
  return null;
}

const shown = (raw: string): string => raw.slice(0, 40).replace(/[^\x20-\x7e]/g, '?');
