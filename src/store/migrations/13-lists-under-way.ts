/** What has been added of lists that are loaded at the moment, so that a start after a crash can take it away again. */
export const migration = `
CREATE TABLE listed_row (
  load INTEGER NOT NULL,
  -- In the order in which they were added.
  place INTEGER NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('customer', 'domain', 'mailbox', 'alias')),
  row INTEGER NOT NULL,
  PRIMARY KEY (load, place)
) STRICT, WITHOUT ROWID;
`;
