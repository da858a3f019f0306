/** What refers to something that can be removed and come again refers to its number, not to its name; an empty set permits nobody. */
export const migration = `
ALTER TABLE recipient ADD COLUMN home_domain_id INTEGER;
ALTER TABLE recipient ADD COLUMN home_mailbox_id INTEGER;
ALTER TABLE journey ADD COLUMN sender_domain_id INTEGER;
ALTER TABLE journey ADD COLUMN sender_mailbox_id INTEGER;
ALTER TABLE journey ADD COLUMN domain_id INTEGER;
-- How sends ended, by whose they were: whoever has the name later has another number. 0: nobody here, or not any more.
ALTER TABLE send_outcome RENAME TO send_outcome_24;
DROP INDEX send_outcome_hour;
CREATE TABLE send_outcome (
  domain_id INTEGER NOT NULL,
  hour INTEGER NOT NULL,
  mailbox_id INTEGER NOT NULL,
  state TEXT NOT NULL,
  sends INTEGER NOT NULL,
  PRIMARY KEY (domain_id, hour, mailbox_id, state)
) STRICT, WITHOUT ROWID;
CREATE INDEX send_outcome_hour ON send_outcome (hour, state, sends);
INSERT INTO send_outcome
  SELECT coalesce(d.id, 0), s.hour, coalesce(m.id, 0), s.state, sum(s.sends) FROM send_outcome_24 s
  LEFT JOIN domain d ON d.name = s.domain AND d.created_at <= s.hour + 3600000
  LEFT JOIN kept_mailbox m ON m.domain_id = d.id AND m.local = substr(s.mailbox, 1, instr(s.mailbox, '@') - 1) AND m.removed_at IS NULL
  GROUP BY 1, 2, 3, 4;
DROP TABLE send_outcome_24;
ALTER TABLE network ADD COLUMN any_domain INTEGER NOT NULL DEFAULT 0;
UPDATE network SET any_domain = 1 WHERE may_submit = 1 AND NOT EXISTS (SELECT 1 FROM network_domain nd WHERE nd.network_id = network.id);
UPDATE outlet SET senders = json_object(
  'isAny', json(iif(json_array_length(senders, '$.customers') = 0 AND json_array_length(senders, '$.domains') = 0, 'true', 'false')),
  'customers', (SELECT json_group_array(c.id) FROM customer c WHERE c.name IN (SELECT value FROM json_each(outlet.senders, '$.customers'))),
  'domains', (SELECT json_group_array(d.id) FROM domain d WHERE d.name IN (SELECT value FROM json_each(outlet.senders, '$.domains'))));
-- Who signed in to a mailbox, counted by week, client and password.
CREATE TABLE mailbox_sign_in (
  id INTEGER PRIMARY KEY,
  mailbox_id INTEGER NOT NULL REFERENCES kept_mailbox (id) ON DELETE CASCADE,
  week INTEGER NOT NULL,
  is_good INTEGER NOT NULL CHECK (is_good IN (0, 1)),
  client TEXT NOT NULL,
  service TEXT NOT NULL CHECK (service IN ('submission', 'POP3', 'IMAP')),
  device TEXT NOT NULL,
  times INTEGER NOT NULL,
  first_at INTEGER NOT NULL,
  last_at INTEGER NOT NULL
) STRICT;
CREATE UNIQUE INDEX mailbox_sign_in_kind ON mailbox_sign_in (mailbox_id, week, is_good, client, service, device);
CREATE INDEX mailbox_sign_in_client ON mailbox_sign_in (client);
CREATE INDEX mailbox_sign_in_last ON mailbox_sign_in (last_at);
-- Where a mailbox forwards copies.
CREATE TABLE mailbox_copy (
  mailbox_id INTEGER NOT NULL REFERENCES kept_mailbox (id) ON DELETE CASCADE,
  address TEXT NOT NULL,
  PRIMARY KEY (mailbox_id, address)
) STRICT, WITHOUT ROWID;
CREATE INDEX mailbox_copy_address ON mailbox_copy (address);
-- A list of a hundred thousand recipients is read when it is needed, not with each row.
ALTER TABLE domain ADD COLUMN recipient_count INTEGER;
ALTER TABLE domain ADD COLUMN recipients_set_at INTEGER;
UPDATE domain SET recipient_count = json_array_length(recipient_list), recipients_set_at = created_at WHERE recipient_list IS NOT NULL;
-- Octets that POP3 sends of a text more than it has, by how it is shown.
CREATE TABLE shown_more (
  id INTEGER PRIMARY KEY REFERENCES outline ON DELETE CASCADE,
  plain INTEGER NOT NULL,
  ascii INTEGER NOT NULL,
  plain_junk INTEGER NOT NULL,
  ascii_junk INTEGER NOT NULL
) STRICT;
-- A check of the host says of which addresses it is.
ALTER TABLE host_check ADD COLUMN about TEXT NOT NULL DEFAULT '';
`;
