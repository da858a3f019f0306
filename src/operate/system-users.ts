import { readFileSync } from 'node:fs';

/** The numbers of a user of this machine; null where there is none of that name. */
export function idsOf(user: string): { uid: number; gid: number } | null {
  const line = readFileSync('/etc/passwd', 'utf8')
    .split('\n')
    .map((one) => one.split(':'))
    .find(([name]) => name === user);
  return line ? { uid: Number(line[2]), gid: Number(line[3]) } : null;
}
