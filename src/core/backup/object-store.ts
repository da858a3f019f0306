/** Where objects are kept by their names; rejects with ObjectStoreError for what the store says. */
export interface ObjectStore {
  /** In words, for people. */
  readonly name: string;
  list(prefix: string): AsyncIterable<{ key: string; size: number }>;
  put(key: string, file: string, what: { size: number; sha256: string }): Promise<void>;
  /** Null where there is none. */
  get(key: string): Promise<AsyncIterable<Uint8Array> | null>;
  remove(keys: readonly string[]): Promise<void>;
}

/** What an object store does not do, in one sentence. */
export class ObjectStoreError extends Error {}
