import type { ListName } from '../../../core/vocabulary.ts';
import type { ListFault } from './read-csv.ts';

export interface LoadResult {
  /** How many were added: all of them, or none. */
  loaded: Record<ListName, number>;
  /** What is wrong with the lists, by their lines; empty when they were loaded, or could be. */
  faults: ListFault[];
  /** Passwords that were made, shown this once. */
  passwords: { address: string; password: string }[];
}

export const NOTHING_LOADED: LoadResult = { loaded: { customers: 0, domains: 0, mailboxes: 0 }, faults: [], passwords: [] };

/** Whether nothing was added, or could be. */
export const isRefused = ({ faults }: LoadResult): boolean => faults.length > 0;
