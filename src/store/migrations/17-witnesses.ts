/** Other hosts that rehearse for this one, or for which it rehearses. */
export const migration = `
CREATE TABLE witness (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE,
  -- Where it is asked; null where it only asks.
  url TEXT,
  -- Ed25519, as base64; null until both have been introduced.
  public_key TEXT,
  -- The one-time code, sealed, and until when it is good.
  code TEXT,
  code_until INTEGER,
  added_at INTEGER NOT NULL,
  -- When it rehearsed for this host, and when this host rehearsed for it.
  asked_at INTEGER,
  asks_at INTEGER
) STRICT;
-- Whom a message goes to that is rehearsed, and who has taken the steps; null for this host.
ALTER TABLE rehearsal ADD COLUMN recipient TEXT;
ALTER TABLE rehearsal ADD COLUMN witness TEXT;
UPDATE rehearsal SET recipient = substr(subject, instr(subject, ' to ') + 4), subject = substr(subject, 1, instr(subject, ' to ') - 1)
WHERE kind = 'send' AND instr(subject, ' to ') > 0;
`;
