/** Folders with their UIDs and mod-sequences (RFC 3501, 7162) in place of a name beside each message, and what is known of a text without opening it. */
export const migration = `
CREATE TABLE folder (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  mailbox_id INTEGER NOT NULL REFERENCES mailbox ON DELETE CASCADE,
  name TEXT NOT NULL,
  special_use TEXT CHECK (special_use IN ('drafts', 'sent', 'junk', 'trash', 'archive')),
  uid_validity INTEGER NOT NULL,
  next_uid INTEGER NOT NULL DEFAULT 1,
  highest_modseq INTEGER NOT NULL DEFAULT 1,
  forgotten_modseq INTEGER NOT NULL DEFAULT 0,
  keep_days INTEGER CHECK (keep_days > 0),
  messages INTEGER NOT NULL DEFAULT 0,
  unseen INTEGER NOT NULL DEFAULT 0,
  deleted INTEGER NOT NULL DEFAULT 0,
  bytes INTEGER NOT NULL DEFAULT 0,
  UNIQUE (mailbox_id, name)
) STRICT;
CREATE TABLE subscription (
  mailbox_id INTEGER NOT NULL REFERENCES mailbox ON DELETE CASCADE,
  name TEXT NOT NULL,
  PRIMARY KEY (mailbox_id, name)
) STRICT, WITHOUT ROWID;
INSERT INTO folder (mailbox_id, name, special_use, uid_validity, keep_days)
  SELECT m.id, f.value ->> 'name', f.value ->> 'use', 1, f.value ->> 'days'
  FROM mailbox m, json_each('[{"name":"INBOX"},{"name":"Drafts","use":"drafts"},{"name":"Sent","use":"sent"},{"name":"Junk","use":"junk","days":30},{"name":"Trash","use":"trash"},{"name":"Archive","use":"archive"}]') f
  ORDER BY m.id, f.key;
UPDATE folder SET uid_validity = id;
INSERT INTO subscription (mailbox_id, name) SELECT mailbox_id, name FROM folder;

CREATE TABLE message (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  folder_id INTEGER NOT NULL REFERENCES folder ON DELETE CASCADE,
  uid INTEGER NOT NULL,
  modseq INTEGER NOT NULL,
  flags INTEGER NOT NULL DEFAULT 0,
  keywords TEXT NOT NULL DEFAULT '',
  internal_date INTEGER NOT NULL,
  saved_at INTEGER NOT NULL,
  size INTEGER NOT NULL,
  prefix TEXT NOT NULL,
  file TEXT NOT NULL,
  outline_id INTEGER,
  journey_id TEXT,
  UNIQUE (folder_id, uid)
) STRICT;
INSERT INTO message (id, folder_id, uid, modseq, internal_date, saved_at, size, prefix, file, journey_id)
  SELECT s.id, f.id, row_number() OVER (PARTITION BY f.id ORDER BY s.id), 1, s.arrived_at, s.arrived_at, s.size,
    'Return-Path: <' || coalesce(s.envelope_sender, '') || '>' || char(13, 10), s.file, s.journey_id
  FROM stored_message s JOIN folder f ON f.mailbox_id = s.mailbox_id AND f.name = iif(s.folder = 'Junk', 'Junk', 'INBOX');
-- Numbers go on where they were: a mail program that speaks POP3 knows its messages by them.
UPDATE sqlite_sequence SET seq = max(seq, coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'stored_message'), 0)) WHERE name = 'message';
INSERT INTO sqlite_sequence (name, seq)
  SELECT 'message', seq FROM sqlite_sequence WHERE name = 'stored_message' AND NOT EXISTS (SELECT 1 FROM sqlite_sequence WHERE name = 'message');
DROP TABLE stored_message;
UPDATE folder SET messages = (SELECT count(*) FROM message WHERE folder_id = folder.id), unseen = (SELECT count(*) FROM message WHERE folder_id = folder.id),
  bytes = (SELECT coalesce(sum(size), 0) FROM message WHERE folder_id = folder.id), next_uid = (SELECT count(*) + 1 FROM message WHERE folder_id = folder.id);
CREATE INDEX message_change ON message (folder_id, modseq);
CREATE INDEX message_file ON message (file);
CREATE TABLE expunged (
  folder_id INTEGER NOT NULL REFERENCES folder ON DELETE CASCADE,
  modseq INTEGER NOT NULL,
  uid INTEGER NOT NULL,
  PRIMARY KEY (folder_id, modseq, uid)
) STRICT, WITHOUT ROWID;
CREATE TABLE app_password (
  id INTEGER PRIMARY KEY,
  mailbox_id INTEGER NOT NULL REFERENCES mailbox ON DELETE CASCADE,
  name TEXT NOT NULL,
  hash TEXT NOT NULL UNIQUE,
  created_at INTEGER NOT NULL,
  used_at INTEGER,
  used_from TEXT,
  program TEXT,
  UNIQUE (mailbox_id, name)
) STRICT;
ALTER TABLE domain ADD COLUMN full_mailbox TEXT NOT NULL DEFAULT 'put-off' CHECK (full_mailbox IN ('put-off', 'refuse'));
ALTER TABLE mailbox ADD COLUMN warned_at INTEGER;
ALTER TABLE mailbox ADD COLUMN app_passwords_only INTEGER NOT NULL DEFAULT 0 CHECK (app_passwords_only IN (0, 1));
CREATE TABLE outline (
  id INTEGER PRIMARY KEY,
  file TEXT NOT NULL UNIQUE,
  envelope TEXT NOT NULL,
  body_structure TEXT NOT NULL,
  keys TEXT NOT NULL,
  thread TEXT NOT NULL,
  preview TEXT NOT NULL,
  header TEXT NOT NULL,
  parts TEXT NOT NULL,
  body TEXT NOT NULL
) STRICT;
`;
