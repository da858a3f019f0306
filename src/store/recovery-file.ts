import { chmodSync, chownSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';

/** A one-time code that somebody on the machine has asked for; only its hash is kept. */
export interface Recovery {
  account: string;
  codeHash: string;
}

const fileIn = (directory: string): string => join(directory, 'recover.json');

/** Leaves a request in the data directory, for whose that is; who can write there is the operator. */
export function askForRecovery(directory: string, request: Recovery): void {
  writeFileSync(fileIn(directory), JSON.stringify(request), { mode: 0o600 });
  chmodSync(fileIn(directory), 0o600);
  const { uid, gid } = statSync(directory);
  if (process.getuid?.() === 0) chownSync(fileIn(directory), uid, gid);
}

/** Takes the request away and returns it; null when there is none, or none that can be read. */
export function takeRecoveryRequest(directory: string): Recovery | null {
  try {
    const { account, codeHash } = JSON.parse(readFileSync(fileIn(directory), 'utf8')) as Partial<Recovery>;
    rmSync(fileIn(directory));
    return typeof account === 'string' && typeof codeHash === 'string' ? { account, codeHash } : null;
  } catch {
    return null;
  }
}
