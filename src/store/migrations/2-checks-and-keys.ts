/** Judging, DMARC stages, states of keys, checks with their history, networks and zones. Frozen: a database out there was made by it. */
export const migration = `
ALTER TABLE domain ADD COLUMN judge TEXT NOT NULL DEFAULT 'enforce' CHECK (judge IN ('note', 'junk', 'enforce'));
ALTER TABLE domain ADD COLUMN dmarc_stage TEXT NOT NULL DEFAULT 'none' CHECK (dmarc_stage IN ('none', 'quarantine', 'reject'));
ALTER TABLE domain ADD COLUMN dmarc_seen TEXT;
ALTER TABLE domain ADD COLUMN dmarc_seen_since INTEGER;

ALTER TABLE dkim_key ADD COLUMN type TEXT NOT NULL DEFAULT 'rsa' CHECK (type IN ('rsa', 'ed25519'));
ALTER TABLE dkim_key ADD COLUMN state TEXT NOT NULL DEFAULT 'retired' CHECK (state IN ('prepared', 'active', 'retiring', 'retired'));
ALTER TABLE dkim_key ADD COLUMN changed_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE dkim_key ADD COLUMN retire_at INTEGER;
UPDATE dkim_key SET changed_at = created_at;
UPDATE dkim_key SET state = 'active' WHERE id IN (SELECT max(id) FROM dkim_key GROUP BY domain_id);
CREATE INDEX dkim_key_retire ON dkim_key (retire_at) WHERE retire_at IS NOT NULL;

-- Results of an older version lack the evidence; everything is checked anew.
DELETE FROM check_result;
ALTER TABLE check_result ADD COLUMN next_at INTEGER NOT NULL DEFAULT 0;
CREATE INDEX check_result_next ON check_result (next_at);
-- The rows are long; what is counted and sorted over all domains is answered from these alone.
CREATE INDEX check_result_verdicts ON check_result (mx, spf, dkim, dmarc, reverse);
CREATE INDEX check_result_at ON check_result (checked_at);
DROP INDEX check_result_readiness;
CREATE INDEX check_result_worst ON check_result (readiness, dkim);
CREATE TABLE host_check (
  id INTEGER PRIMARY KEY CHECK (id = 1),
  checked_at INTEGER NOT NULL,
  next_at INTEGER NOT NULL,
  findings TEXT NOT NULL
) STRICT;
CREATE TABLE finding_change (
  id INTEGER PRIMARY KEY,
  domain_id INTEGER REFERENCES domain ON DELETE CASCADE,
  at INTEGER NOT NULL,
  subject TEXT NOT NULL,
  verdict TEXT NOT NULL,
  code TEXT NOT NULL,
  headline TEXT NOT NULL,
  before_verdict TEXT,
  before_code TEXT
) STRICT;
CREATE INDEX finding_change_domain ON finding_change (domain_id, id);

CREATE INDEX stored_message_junk ON stored_message (arrived_at) WHERE folder = 'Junk';
CREATE TABLE network (
  id INTEGER PRIMARY KEY,
  cidr TEXT NOT NULL UNIQUE,
  note TEXT NOT NULL,
  created_at INTEGER NOT NULL
) STRICT;
CREATE TABLE dns_zone (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE,
  server TEXT NOT NULL,
  port INTEGER NOT NULL,
  key_name TEXT NOT NULL,
  algorithm TEXT NOT NULL,
  secret TEXT NOT NULL,
  created_at INTEGER NOT NULL
) STRICT;
`;
