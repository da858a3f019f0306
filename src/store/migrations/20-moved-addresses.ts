/** Addresses whose owner has gone elsewhere: mail is led there for a while, and then refused with the new address. */
export const migration = `
CREATE TABLE moved_address (
  id INTEGER PRIMARY KEY,
  domain_id INTEGER NOT NULL REFERENCES domain (id) ON DELETE CASCADE,
  local TEXT NOT NULL,
  -- Null where the new address is not told.
  to_address TEXT,
  -- Until then mail is led there.
  forward_until INTEGER,
  created_at INTEGER NOT NULL,
  UNIQUE (domain_id, local)
) STRICT;
`;
