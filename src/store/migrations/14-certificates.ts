/** Certificates by name, and how far the fetching of each has come. */
export const migration = `
CREATE TABLE certificate (
  id INTEGER PRIMARY KEY,
  source TEXT NOT NULL CHECK (source IN ('added', 'fetched')),
  -- DNS names, as JSON.
  names TEXT NOT NULL,
  -- PEM, with all that leads to the authority.
  chain TEXT NOT NULL,
  -- PEM, sealed.
  private_key TEXT NOT NULL,
  is_in_order INTEGER NOT NULL CHECK (is_in_order IN (0, 1)),
  since INTEGER NOT NULL
) STRICT;
-- A name that clients connect to: why it is wanted, where it leads, and what was tried to have a certificate for it.
CREATE TABLE certificate_name (
  name TEXT PRIMARY KEY,
  -- Null for one that somebody asked for, or of the host.
  domain_id INTEGER REFERENCES domain ON DELETE CASCADE,
  leads TEXT NOT NULL CHECK (leads IN ('here', 'elsewhere', 'nowhere', 'unknown')),
  looked_at INTEGER,
  -- When the one that is held is to be renewed.
  renew_at INTEGER,
  tried_at INTEGER,
  next_at INTEGER,
  failures INTEGER NOT NULL DEFAULT 0,
  trouble TEXT,
  -- The finding that it is.
  trouble_code TEXT
) STRICT, WITHOUT ROWID;
CREATE INDEX certificate_name_domain ON certificate_name (domain_id);
CREATE TABLE authority_account (
  directory TEXT PRIMARY KEY,
  url TEXT NOT NULL,
  private_key TEXT NOT NULL,
  since INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
ALTER TABLE domain ADD COLUMN mail_name TEXT NOT NULL DEFAULT 'own' CHECK (mail_name IN ('own', 'host'));
`;
