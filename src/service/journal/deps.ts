import type { DirectoryDeps } from '../directory/deps.ts';

/** What reading the journal needs. */
export type JournalDeps = DirectoryDeps;
