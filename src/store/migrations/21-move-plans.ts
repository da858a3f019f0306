/** The paths by which domains move here from other servers. */
export const migration = `
-- Until a domain's mail has moved here, it is passed on to this server, as host or host:port.
ALTER TABLE domain ADD COLUMN old_server TEXT;

-- Where a message lies that was brought from elsewhere, and its mod-sequence when it was marked last by that: as long as these are true, nobody here has touched it.
ALTER TABLE taken_message ADD COLUMN folder_id INTEGER;
ALTER TABLE taken_message ADD COLUMN uid INTEGER;
ALTER TABLE taken_message ADD COLUMN modseq INTEGER;

CREATE TABLE move_plan (
  domain_id INTEGER PRIMARY KEY REFERENCES domain (id) ON DELETE CASCADE,
  begun_at INTEGER NOT NULL,
  -- The server from which its mail comes, for showing.
  server TEXT NOT NULL,
  -- How the mail is brought, as JSON, sealed: there are passwords of that server in it.
  asked TEXT NOT NULL,
  -- The step that is next, how it stands, and a sentence about it, as of the last look.
  step TEXT,
  state TEXT NOT NULL,
  said TEXT NOT NULL,
  -- When DNS was asked last, the TTL of the MX records then, and until when caches may hold an older answer for long.
  looked_at INTEGER,
  mx_ttl INTEGER,
  held_until INTEGER,
  -- When its mail began to stay here.
  here_since INTEGER
) STRICT;

CREATE TABLE move_step (
  domain_id INTEGER NOT NULL REFERENCES move_plan (domain_id) ON DELETE CASCADE,
  step TEXT NOT NULL CHECK (step IN ('sign-in', 'mailboxes', 'first-pass', 'short-ttl', 'sheets', 'mx', 'last-pass')),
  -- The transfer that does it.
  transfer_id INTEGER,
  is_skipped INTEGER NOT NULL DEFAULT 0 CHECK (is_skipped IN (0, 1)),
  -- What was made or sent, as JSON: mailboxes that were made; by address the journey of its sheet.
  made TEXT NOT NULL DEFAULT '[]',
  PRIMARY KEY (domain_id, step)
) STRICT, WITHOUT ROWID;
`;
