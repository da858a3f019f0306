/** Messages that are scored: addresses good for one message each, and samples of what a domain sends. */
export const migration = `
CREATE TABLE trial (
  id INTEGER PRIMARY KEY,
  -- Before the @ of the host; null for a sample.
  local_part TEXT UNIQUE,
  -- The domain that a sample is of.
  domain_id INTEGER REFERENCES domain (id) ON DELETE CASCADE,
  made_at INTEGER NOT NULL,
  -- From then on the address takes nothing.
  expires_at INTEGER NOT NULL,
  arrived_at INTEGER,
  journey_id TEXT,
  sender TEXT,
  subject TEXT,
  -- Its text; of a sample none is kept.
  file TEXT,
  size INTEGER,
  -- What is known of it beside its text, as JSON.
  arrival TEXT
) STRICT;
CREATE INDEX trial_file ON trial (file) WHERE file IS NOT NULL;
CREATE INDEX trial_domain ON trial (domain_id, arrived_at) WHERE domain_id IS NOT NULL;
CREATE TABLE trial_score (
  trial_id INTEGER NOT NULL REFERENCES trial (id) ON DELETE CASCADE,
  at INTEGER NOT NULL,
  points INTEGER NOT NULL,
  -- What could be judged of the hundred.
  out_of INTEGER NOT NULL,
  -- As JSON.
  findings TEXT NOT NULL,
  PRIMARY KEY (trial_id, at)
) STRICT, WITHOUT ROWID;
-- Whether a message that leaves is scored every day.
ALTER TABLE domain ADD COLUMN is_sampled INTEGER NOT NULL DEFAULT 0 CHECK (is_sampled IN (0, 1));
`;
