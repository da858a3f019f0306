/**
 * What a mailbox uses is counted in messages too, and for its domain; a mailbox that was removed is kept for a while. All that reads mailboxes reads the
 * view, so that a removed one is gone for everybody but those who bring it back.
 */
export const migration = `
ALTER TABLE mailbox RENAME TO kept_mailbox;
ALTER TABLE kept_mailbox ADD COLUMN name TEXT;
ALTER TABLE kept_mailbox ADD COLUMN quota_messages INTEGER CHECK (quota_messages > 0);
ALTER TABLE kept_mailbox ADD COLUMN used_messages INTEGER NOT NULL DEFAULT 0;
ALTER TABLE kept_mailbox ADD COLUMN pop3_junk INTEGER NOT NULL DEFAULT 0 CHECK (pop3_junk IN (0, 1));
ALTER TABLE kept_mailbox ADD COLUMN removed_at INTEGER;
-- Its address is free while it is removed, so its own is kept here; with the aliases that led to it.
ALTER TABLE kept_mailbox ADD COLUMN removed_local TEXT;
ALTER TABLE kept_mailbox ADD COLUMN removed_aliases TEXT;
UPDATE kept_mailbox SET used_messages = (SELECT coalesce(sum(messages), 0) FROM folder WHERE mailbox_id = kept_mailbox.id);
CREATE INDEX kept_mailbox_removed ON kept_mailbox (removed_at) WHERE removed_at IS NOT NULL;
CREATE VIEW mailbox AS SELECT id, domain_id, local, name, password_hash, app_passwords_only, quota_bytes, used_bytes, quota_messages, used_messages,
  pop3_junk, warned_at, created_at FROM kept_mailbox WHERE removed_at IS NULL;

ALTER TABLE domain ADD COLUMN storage_bytes INTEGER CHECK (storage_bytes > 0);
ALTER TABLE domain ADD COLUMN storage_messages INTEGER CHECK (storage_messages > 0);
-- Beside the domain, whose row may be long: this changes with every message.
CREATE TABLE domain_use (
  domain_id INTEGER PRIMARY KEY REFERENCES domain ON DELETE CASCADE,
  bytes INTEGER NOT NULL,
  messages INTEGER NOT NULL,
  warned_at INTEGER
) STRICT;
INSERT INTO domain_use (domain_id, bytes, messages)
  SELECT d.id, coalesce(sum(m.used_bytes), 0), coalesce(sum(m.used_messages), 0) FROM domain d LEFT JOIN mailbox m ON m.domain_id = d.id GROUP BY d.id;
CREATE TRIGGER domain_use_begun AFTER INSERT ON domain BEGIN
  INSERT INTO domain_use (domain_id, bytes, messages) VALUES (new.id, 0, 0);
END;
CREATE TRIGGER domain_use_changed AFTER UPDATE OF used_bytes, used_messages, removed_at ON kept_mailbox BEGIN
  UPDATE domain_use SET bytes = bytes + iif(new.removed_at IS NULL, new.used_bytes, 0) - iif(old.removed_at IS NULL, old.used_bytes, 0),
    messages = messages + iif(new.removed_at IS NULL, new.used_messages, 0) - iif(old.removed_at IS NULL, old.used_messages, 0)
  WHERE domain_id = new.domain_id;
END;
CREATE TRIGGER domain_use_ended AFTER DELETE ON kept_mailbox WHEN old.removed_at IS NULL BEGIN
  UPDATE domain_use SET bytes = bytes - old.used_bytes, messages = messages - old.used_messages WHERE domain_id = old.domain_id;
END;
`;
