/** What lists show of a text, in rows of its own: a list of a folder reads a third of the pages. */
export const migration = `
ALTER TABLE outline RENAME TO outline_before;
CREATE TABLE outline (
  id INTEGER PRIMARY KEY,
  file TEXT NOT NULL UNIQUE,
  keys TEXT NOT NULL,
  thread TEXT NOT NULL,
  preview TEXT NOT NULL,
  header TEXT NOT NULL,
  parts TEXT NOT NULL
) STRICT;
INSERT INTO outline (id, file, keys, thread, preview, header, parts)
  SELECT id, file, keys, thread, preview, header, parts FROM outline_before;
CREATE TABLE outline_line (
  id INTEGER PRIMARY KEY REFERENCES outline ON DELETE CASCADE,
  envelope TEXT NOT NULL,
  body_structure TEXT NOT NULL,
  body TEXT NOT NULL
) STRICT;
INSERT INTO outline_line (id, envelope, body_structure, body)
  SELECT id, envelope, body_structure, body FROM outline_before;
DROP TABLE outline_before;
`;
