/** Whether a line can be an answer of an exchange: base64, maybe none (RFC 4648 §4). */
export const isBase64 = (line: string): boolean => /^[A-Za-z0-9+/]*={0,2}$/.test(line);

/** Reads what PLAIN says in one line of base64 (RFC 4616 §2); null when it is none. Acting for somebody else is not offered. */
export function readPlain(line: string): { user: string; password: string } | null {
  if (!isBase64(line)) return null;
  const parts = Buffer.from(line, 'base64').toString('utf8').split('\0');
  const [onBehalf = '', user = '', password = ''] = parts;
  return parts.length === 3 && user !== '' && (onBehalf === '' || onBehalf === user) ? { user, password } : null;
}
