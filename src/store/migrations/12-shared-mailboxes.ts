/** Mailboxes that several people open under their own sign-in (RFC 4314). */
export const migration = `
ALTER TABLE kept_mailbox ADD COLUMN is_shared INTEGER NOT NULL DEFAULT 0 CHECK (is_shared IN (0, 1));
DROP VIEW mailbox;
CREATE VIEW mailbox AS SELECT id, domain_id, local, name, is_shared, password_hash, app_passwords_only, quota_bytes, used_bytes, quota_messages,
  used_messages, pop3_junk, warned_at, created_at FROM kept_mailbox WHERE removed_at IS NULL;
-- What a member may do with all folders of a mailbox, where nothing else is said of one.
CREATE TABLE mailbox_member (
  mailbox_id INTEGER NOT NULL REFERENCES kept_mailbox ON DELETE CASCADE,
  member_id INTEGER NOT NULL REFERENCES kept_mailbox ON DELETE CASCADE,
  rights TEXT NOT NULL,
  may_send INTEGER NOT NULL CHECK (may_send IN (0, 1)),
  since INTEGER NOT NULL,
  PRIMARY KEY (mailbox_id, member_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX mailbox_member_of ON mailbox_member (member_id);
CREATE TABLE folder_right (
  folder_id INTEGER NOT NULL REFERENCES folder ON DELETE CASCADE,
  member_id INTEGER NOT NULL REFERENCES kept_mailbox ON DELETE CASCADE,
  rights TEXT NOT NULL,
  PRIMARY KEY (folder_id, member_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX folder_right_of ON folder_right (member_id);
`;
