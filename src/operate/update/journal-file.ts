import { existsSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';

/** How far an update has come, in its order. */
export const STAGES = ['begun', 'stopped', 'kept', 'put', 'opened'] as const;
export type Stage = (typeof STAGES)[number];

/** An update that was begun and is not over: what is needed to go on, or back. */
export interface UnderWay {
  from: string;
  to: string;
  sha256: string;
  config: string;
  stage: Stage;
  /** It goes back: whatever is done again goes that way. */
  isGoingBack: boolean;
  wasUp: boolean;
  databaseBefore: number;
  /** Null before the new program has opened it. */
  databaseAfter: number | null;
  backup: string | null;
}

/** What the last update was that came to a good end. */
export interface LastUpdate {
  from: string;
  to: string;
  config: string;
  databaseBefore: number;
  databaseAfter: number;
  backup: string | null;
}

/** Two files of the folder in which an update works; each is written whole or not at all. */
export class JournalFile {
  constructor(private readonly folder: string) {}

  underWay(): UnderWay | null {
    return this.read<UnderWay>('under-way.json');
  }

  last(): LastUpdate | null {
    return this.read<LastUpdate>('last.json');
  }

  note(state: UnderWay): void {
    this.write('under-way.json', state);
  }

  /** It is over; `last` where it came to a good end. */
  over(last: LastUpdate | null): void {
    if (last) this.write('last.json', last);
    rmSync(join(this.folder, 'under-way.json'), { force: true });
  }

  forgetLast(): void {
    rmSync(join(this.folder, 'last.json'), { force: true });
  }

  private read<Value>(name: string): Value | null {
    const path = join(this.folder, name);
    return existsSync(path) ? (JSON.parse(readFileSync(path, 'utf8')) as Value) : null;
  }

  private write(name: string, value: object): void {
    const path = join(this.folder, name);
    writeFileSync(`${path}.new`, `${JSON.stringify(value, null, 2)}\n`, { mode: 0o600, flush: true });
    renameSync(`${path}.new`, path);
  }
}
