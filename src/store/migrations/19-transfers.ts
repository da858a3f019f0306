/** Mail that was brought here from elsewhere or out of a backup, or taken out: each with its mailboxes and what was left out. */
export const migration = `
CREATE TABLE transfer (
  id INTEGER PRIMARY KEY,
  kind TEXT NOT NULL CHECK (kind IN ('recover', 'import', 'export')),
  -- Whose mail it is: an address, a domain, a customer, or how many mailboxes.
  subject TEXT NOT NULL,
  -- Where it comes from or goes to, in words.
  place TEXT NOT NULL,
  -- What was asked for, as JSON, sealed: there may be passwords of another server in it.
  asked TEXT NOT NULL,
  started_at INTEGER NOT NULL,
  ended_at INTEGER,
  state TEXT NOT NULL CHECK (state IN ('under-way', 'done', 'partly', 'failed', 'stopped')),
  -- What came of it, in words.
  outcome TEXT NOT NULL DEFAULT ''
) STRICT;

CREATE TABLE transfer_mailbox (
  transfer_id INTEGER NOT NULL REFERENCES transfer (id) ON DELETE CASCADE,
  part INTEGER NOT NULL,
  address TEXT NOT NULL,
  -- The folder in work.
  folder TEXT NOT NULL DEFAULT '',
  -- Messages: looked at, of all; taken; known before; left out.
  done INTEGER NOT NULL DEFAULT 0,
  total INTEGER NOT NULL DEFAULT 0,
  taken INTEGER NOT NULL DEFAULT 0,
  known INTEGER NOT NULL DEFAULT 0,
  left_out INTEGER NOT NULL DEFAULT 0,
  octets INTEGER NOT NULL DEFAULT 0,
  is_over INTEGER NOT NULL DEFAULT 0 CHECK (is_over IN (0, 1)),
  -- What kept it from being whole.
  fault TEXT,
  PRIMARY KEY (transfer_id, part)
) STRICT, WITHOUT ROWID;

CREATE TABLE transfer_left_out (
  transfer_id INTEGER NOT NULL REFERENCES transfer (id) ON DELETE CASCADE,
  number INTEGER NOT NULL,
  address TEXT NOT NULL,
  folder TEXT NOT NULL,
  what TEXT NOT NULL,
  why TEXT NOT NULL,
  PRIMARY KEY (transfer_id, number)
) STRICT, WITHOUT ROWID;

-- What was brought from elsewhere once is not brought again, also when somebody has removed it here.
CREATE TABLE taken_message (
  mailbox_id INTEGER NOT NULL REFERENCES kept_mailbox (id) ON DELETE CASCADE,
  key TEXT NOT NULL,
  PRIMARY KEY (mailbox_id, key)
) STRICT, WITHOUT ROWID;
`;
