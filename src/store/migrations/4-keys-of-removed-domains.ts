/** Signing keys of domains that were removed while mail of theirs was waiting. Frozen: a database out there was made by it. */
export const migration = `
-- Signing keys of domains that were removed while mail of theirs was waiting.
CREATE TABLE parted_key (
  domain TEXT NOT NULL,
  selector TEXT NOT NULL,
  type TEXT NOT NULL,
  private_key TEXT NOT NULL,
  PRIMARY KEY (domain, selector)
) STRICT, WITHOUT ROWID;
`;
