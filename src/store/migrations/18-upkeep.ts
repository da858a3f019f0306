/** Backups that were made and verified, looks at what is stored, and what came of them. What lies in a target says the target itself. */
export const migration = `
CREATE TABLE upkeep_run (
  id INTEGER PRIMARY KEY,
  kind TEXT NOT NULL CHECK (kind IN ('backup', 'verify', 'integrity')),
  -- Where backups lie; null for a look at what is stored.
  target TEXT,
  -- Of the backup; null where none came of it.
  name TEXT,
  by_hand INTEGER NOT NULL CHECK (by_hand IN (0, 1)),
  started_at INTEGER NOT NULL,
  -- Null while it is under way.
  ended_at INTEGER,
  is_good INTEGER CHECK (is_good IN (0, 1)),
  -- What came of it, in words.
  outcome TEXT NOT NULL DEFAULT ''
) STRICT;
`;
