/** Rehearsals that were made, the newest of them. */
export const migration = `
CREATE TABLE rehearsal (
  id INTEGER PRIMARY KEY,
  kind TEXT NOT NULL,
  subject TEXT NOT NULL,
  at INTEGER NOT NULL,
  is_good INTEGER NOT NULL CHECK (is_good IN (0, 1)),
  -- Each way with its steps, as JSON.
  ways TEXT NOT NULL
) STRICT;
CREATE INDEX rehearsal_subject ON rehearsal (kind, subject, id);
`;
