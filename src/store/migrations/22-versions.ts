/** Which versions of the program have run on this data. */
export const migration = `
CREATE TABLE version_run (
  id INTEGER PRIMARY KEY,
  version TEXT NOT NULL,
  -- Of the tables, when it was started first.
  database_version INTEGER NOT NULL,
  since INTEGER NOT NULL
) STRICT;
`;
