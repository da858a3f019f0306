import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { statSync } from 'node:fs';
import { join } from 'node:path';
import { StoreError } from '../../store/open-data.ts';
import type { Part, PartResults } from './parts.ts';

/** Whose process a part is: that of the data. */
export interface DataOwner {
  uid: number;
  gid: number;
}

/** Who owns the data directory; null where that is who asks. */
export function ownerOf(data: string): DataOwner | null {
  const { uid, gid } = statSync(data);
  return process.getuid?.() === 0 && uid !== 0 ? { uid, gid } : null;
}

const MOST_SAID = 64 * 1024;

/** Has a part done by the program of a folder. Throws StoreError with what it says when it fails. */
export async function runPart<One extends Part>(
  part: One,
  { program, config, owner }: { program: string; config: string; owner: DataOwner | null },
): Promise<PartResults[One]> {
  const child = spawn(process.execPath, [join(program, 'dist/tenedor.mjs'), 'update', 'part', part, '--config', config], {
    stdio: ['ignore', 'pipe', 'pipe'],
    ...(owner ?? {}),
  });
  let said = '';
  let complained = '';
  child.stdout.on('data', (some: Buffer) => {
    said = (said + some.toString()).slice(0, MOST_SAID);
  });
  child.stderr.on('data', (some: Buffer) => {
    complained = (complained + some.toString()).slice(-MOST_SAID);
  });
  const [code] = (await once(child, 'close')) as [number | null];
  if (code === 0) {
    try {
      return JSON.parse(said) as PartResults[One];
    } catch {
      throw new StoreError(`Its answer is not understood: ${said.slice(0, 200)}`);
    }
  }
  const lines = complained.trim().split('\n');
  // What nobody has foreseen comes with the place in the program first.
  const reason = lines.find((line) => /^\w*Error\b/.test(line)) ?? lines[0];
  throw new StoreError(reason?.slice(0, 400) || `It ended with the exit code ${code}.`);
}
