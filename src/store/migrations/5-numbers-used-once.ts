/** Numbers of rows that are never used again, a ledger that outlives everybody, who did what, sessions to look at, guesses that survive a restart. */
export const migration = `
-- The last number of each kind that was given out. Rows that sessions, memory or JSON know by their number get it from here.
CREATE TABLE number_given (
  kind TEXT PRIMARY KEY,
  last INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO number_given
  SELECT 'account', coalesce(max(id), 0) FROM account UNION ALL
  SELECT 'api_token', coalesce(max(id), 0) FROM api_token UNION ALL
  SELECT 'web_session', coalesce(max(rowid), 0) FROM web_session UNION ALL
  SELECT 'customer', max(coalesce((SELECT max(id) FROM customer), 0), coalesce((SELECT max(customer_id) FROM ledger), 0)) UNION ALL
  SELECT 'plan', coalesce(max(id), 0) FROM plan UNION ALL
  SELECT 'domain', max(coalesce((SELECT max(id) FROM domain), 0), coalesce((SELECT max(domain_id) FROM ledger), 0)) UNION ALL
  SELECT 'mailbox', max(coalesce((SELECT max(id) FROM mailbox), 0), coalesce((SELECT max(mailbox_id) FROM ledger), 0)) UNION ALL
  SELECT 'alias', coalesce(max(id), 0) FROM alias UNION ALL
  SELECT 'network', max(coalesce((SELECT max(id) FROM network), 0), coalesce((SELECT max(network_id) FROM ledger), 0)) UNION ALL
  SELECT 'outlet', coalesce(max(id), 0) FROM outlet UNION ALL
  SELECT 'webhook', coalesce(max(id), 0) FROM webhook UNION ALL
  SELECT 'webhook_call', coalesce(max(id), 0) FROM webhook_call UNION ALL
  SELECT 'dkim_key', coalesce(max(id), 0) FROM dkim_key UNION ALL
  SELECT 'dns_zone', coalesce(max(id), 0) FROM dns_zone;

-- What was removed and has charges in the ledger: its statement can still be read.
CREATE TABLE removed_scope (
  kind TEXT NOT NULL,
  id INTEGER NOT NULL,
  name TEXT NOT NULL COLLATE NOCASE,
  domain TEXT,
  removed_at INTEGER NOT NULL,
  PRIMARY KEY (kind, id)
) STRICT, WITHOUT ROWID;
CREATE INDEX removed_scope_name ON removed_scope (kind, name);

-- Nobody's removal touches what was charged: no reference, the numbers stay.
CREATE TABLE ledger_next (
  seq INTEGER PRIMARY KEY AUTOINCREMENT,
  at INTEGER NOT NULL,
  customer_id INTEGER,
  domain_id INTEGER,
  mailbox_id INTEGER,
  network_id INTEGER,
  domain TEXT NOT NULL,
  mailbox TEXT,
  kind TEXT NOT NULL CHECK (kind IN ('submitted', 'forwarded')),
  journey_id TEXT NOT NULL,
  messages INTEGER NOT NULL,
  sends INTEGER NOT NULL CHECK (sends > 0),
  bytes INTEGER NOT NULL
) STRICT;
INSERT INTO ledger_next SELECT seq, at, customer_id, domain_id, mailbox_id, network_id, domain, mailbox, kind, journey_id, messages, sends, bytes FROM ledger;
DROP TABLE ledger;
ALTER TABLE ledger_next RENAME TO ledger;
CREATE INDEX ledger_at ON ledger (at, domain_id, messages, sends, bytes);
CREATE INDEX ledger_domain ON ledger (domain_id, at) WHERE domain_id IS NOT NULL;
CREATE INDEX ledger_mailbox ON ledger (mailbox_id, at) WHERE mailbox_id IS NOT NULL;
CREATE INDEX ledger_customer ON ledger (customer_id, at) WHERE customer_id IS NOT NULL;
CREATE INDEX ledger_network ON ledger (network_id, at) WHERE network_id IS NOT NULL;

-- Who did it, as JSON: account, token, face and address; null for the service itself and for mail.
ALTER TABLE journal ADD COLUMN actor TEXT;

ALTER TABLE web_session ADD COLUMN address TEXT NOT NULL DEFAULT '';
ALTER TABLE web_session ADD COLUMN program TEXT NOT NULL DEFAULT '';
ALTER TABLE web_session ADD COLUMN used_at INTEGER NOT NULL DEFAULT 0;
CREATE INDEX web_session_account ON web_session (account_id);

-- Wrong sign-ins that are still remembered, and from where accounts signed in lately.
CREATE TABLE sign_in_failure (
  guard TEXT NOT NULL,
  of TEXT NOT NULL,
  name TEXT NOT NULL,
  domain TEXT,
  failures INTEGER NOT NULL,
  until INTEGER NOT NULL,
  last INTEGER NOT NULL,
  PRIMARY KEY (guard, of, name)
) STRICT, WITHOUT ROWID;
CREATE TABLE sign_in_place (
  guard TEXT NOT NULL,
  account TEXT NOT NULL,
  place TEXT NOT NULL,
  at INTEGER NOT NULL,
  PRIMARY KEY (guard, account, place)
) STRICT, WITHOUT ROWID;
CREATE INDEX sign_in_place_at ON sign_in_place (at);

-- Texts that should be there and are gone or cut short.
CREATE TABLE lost_text (
  file TEXT PRIMARY KEY,
  how TEXT NOT NULL,
  journey_id TEXT NOT NULL,
  at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- Message files that nothing needs, and since when; they go after a day.
CREATE TABLE unneeded_text (
  name TEXT PRIMARY KEY,
  since INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- A report about success is told to who was vouched for by SPF or a sign-in, and to nobody else.
ALTER TABLE journey ADD COLUMN vouched INTEGER NOT NULL DEFAULT 0;
UPDATE journey SET vouched = 1 WHERE kind = 'submitted';
CREATE INDEX finding_change_at ON finding_change (at);
`;
