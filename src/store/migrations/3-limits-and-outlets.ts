const LIMITS = ['sending_limit', 'limit_raise', 'limit_warning'];

/** Of the third version: what was set for a scope goes with it. */
const whenGone = (scope: string, tables: readonly string[]): string =>
  `CREATE TRIGGER ${scope}_gone AFTER DELETE ON ${scope} BEGIN
${tables.map((table) => `  DELETE FROM ${table} WHERE scope = '${scope}' AND scope_id = old.id;`).join('\n')}
END;`;

/** Limits of every scope, holds, stops, outlets, roles, webhooks and the words of journeys. Frozen: a database out there was made by it. */
export const migration = `
ALTER TABLE customer ADD COLUMN contact TEXT;
ALTER TABLE plan ADD COLUMN when_full TEXT NOT NULL DEFAULT 'refuse' CHECK (when_full IN ('refuse', 'hold'));
ALTER TABLE plan ADD COLUMN hold_most INTEGER NOT NULL DEFAULT 500;
ALTER TABLE plan ADD COLUMN hold_hours INTEGER NOT NULL DEFAULT 24;
ALTER TABLE plan ADD COLUMN unusual TEXT NOT NULL DEFAULT 'flag' CHECK (unusual IN ('off', 'flag', 'stop'));
ALTER TABLE plan ADD COLUMN brake_share INTEGER DEFAULT 40;
ALTER TABLE plan ADD COLUMN brake_least INTEGER NOT NULL DEFAULT 20;

-- Limits of plans (for domains and for their mailboxes) and of single scopes, which go before the plan's; amount NULL is "none".
CREATE TABLE sending_limit (
  scope TEXT NOT NULL,
  scope_id INTEGER NOT NULL,
  period TEXT NOT NULL CHECK (period IN ('minute', 'hour', 'day', 'month')),
  quantity TEXT NOT NULL CHECK (quantity IN ('messages', 'sends', 'bytes')),
  amount INTEGER,
  PRIMARY KEY (scope, scope_id, period, quantity)
) STRICT, WITHOUT ROWID;
INSERT INTO sending_limit SELECT 'plan', id, 'hour', 'sends', hour_limit FROM plan WHERE hour_limit IS NOT NULL;
INSERT INTO sending_limit SELECT 'plan', id, 'day', 'sends', day_limit FROM plan WHERE day_limit IS NOT NULL;
INSERT INTO sending_limit SELECT 'domain', d.id, 'hour', 'sends', d.hour_limit FROM domain d JOIN plan p ON p.id = d.plan_id WHERE d.hour_limit IS NOT p.hour_limit;
INSERT INTO sending_limit SELECT 'domain', d.id, 'day', 'sends', d.day_limit FROM domain d JOIN plan p ON p.id = d.plan_id WHERE d.day_limit IS NOT p.day_limit;
ALTER TABLE plan DROP COLUMN hour_limit;
ALTER TABLE plan DROP COLUMN day_limit;
ALTER TABLE domain DROP COLUMN hour_limit;
ALTER TABLE domain DROP COLUMN day_limit;
-- What happens when a scope's limit is full, where that differs from the plan.
CREATE TABLE full_choice (
  scope TEXT NOT NULL,
  scope_id INTEGER NOT NULL,
  when_full TEXT NOT NULL CHECK (when_full IN ('refuse', 'hold')),
  hold_most INTEGER NOT NULL,
  hold_hours INTEGER NOT NULL,
  PRIMARY KEY (scope, scope_id)
) STRICT, WITHOUT ROWID;
CREATE TABLE limit_raise (
  id INTEGER PRIMARY KEY,
  scope TEXT NOT NULL,
  scope_id INTEGER NOT NULL,
  period TEXT NOT NULL,
  quantity TEXT NOT NULL,
  amount INTEGER,
  until INTEGER NOT NULL,
  reason TEXT NOT NULL,
  at INTEGER NOT NULL
) STRICT;
CREATE INDEX limit_raise_scope ON limit_raise (scope, scope_id);
CREATE TABLE limit_warning (
  scope TEXT NOT NULL,
  scope_id INTEGER NOT NULL,
  period TEXT NOT NULL,
  quantity TEXT NOT NULL,
  level INTEGER NOT NULL,
  at INTEGER NOT NULL,
  used INTEGER NOT NULL,
  amount INTEGER NOT NULL,
  PRIMARY KEY (scope, scope_id, period, quantity, level)
) STRICT, WITHOUT ROWID;
-- What keeps a scope from sending or receiving: set by a person (pause), by failures (brake) or by unusual sending.
CREATE TABLE stop (
  scope TEXT NOT NULL CHECK (scope IN ('customer', 'domain', 'mailbox')),
  scope_id INTEGER NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('pause', 'brake', 'unusual')),
  sending INTEGER NOT NULL,
  receiving INTEGER NOT NULL,
  text TEXT NOT NULL,
  figures TEXT NOT NULL DEFAULT '{}',
  at INTEGER NOT NULL,
  PRIMARY KEY (scope, scope_id, kind)
) STRICT, WITHOUT ROWID;
CREATE TABLE unusual (
  mailbox_id INTEGER PRIMARY KEY REFERENCES mailbox ON DELETE CASCADE,
  at INTEGER NOT NULL,
  sends INTEGER NOT NULL,
  usual INTEGER NOT NULL,
  threshold INTEGER NOT NULL
) STRICT;

-- The ledger outlives what it speaks of: a domain that is removed has sent what it has sent.
CREATE TABLE ledger_next (
  seq INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  customer_id INTEGER REFERENCES customer ON DELETE SET NULL,
  domain_id INTEGER REFERENCES domain ON DELETE SET NULL,
  mailbox_id INTEGER REFERENCES mailbox ON DELETE SET NULL,
  network_id INTEGER REFERENCES network ON DELETE SET NULL,
  domain TEXT NOT NULL,
  mailbox TEXT,
  kind TEXT NOT NULL CHECK (kind IN ('submitted', 'forwarded')),
  journey_id TEXT NOT NULL,
  messages INTEGER NOT NULL,
  sends INTEGER NOT NULL CHECK (sends > 0),
  bytes INTEGER NOT NULL
) STRICT;
INSERT INTO ledger_next
  SELECT l.seq, l.at, d.customer_id, l.domain_id, l.mailbox_id, NULL, d.name, m.local || '@' || d.name,
    CASE WHEN j.kind = 'received' THEN 'forwarded' ELSE 'submitted' END, l.journey_id, 1, l.sends, coalesce(j.size, 0)
  FROM ledger l JOIN domain d ON d.id = l.domain_id LEFT JOIN mailbox m ON m.id = l.mailbox_id LEFT JOIN journey j ON j.id = l.journey_id;
DROP TABLE ledger;
ALTER TABLE ledger_next RENAME TO ledger;
CREATE INDEX ledger_at ON ledger (at, domain_id, messages, sends, bytes);
CREATE INDEX ledger_domain ON ledger (domain_id, at) WHERE domain_id IS NOT NULL;
CREATE INDEX ledger_mailbox ON ledger (mailbox_id, at) WHERE mailbox_id IS NOT NULL;
CREATE INDEX ledger_customer ON ledger (customer_id, at) WHERE customer_id IS NOT NULL;
CREATE INDEX ledger_network ON ledger (network_id, at) WHERE network_id IS NOT NULL;
-- How sends ended, by hour.
CREATE TABLE send_outcome (
  domain TEXT NOT NULL,
  hour INTEGER NOT NULL,
  mailbox TEXT NOT NULL,
  state TEXT NOT NULL,
  sends INTEGER NOT NULL,
  PRIMARY KEY (domain, hour, mailbox, state)
) STRICT, WITHOUT ROWID;
CREATE INDEX send_outcome_hour ON send_outcome (hour, state, sends);

ALTER TABLE journey ADD COLUMN mailbox TEXT;
ALTER TABLE journey ADD COLUMN message_id TEXT;
ALTER TABLE journey ADD COLUMN envelope_id TEXT;
ALTER TABLE journey ADD COLUMN return_content TEXT;
ALTER TABLE journey ADD COLUMN smtputf8 INTEGER NOT NULL DEFAULT 0;
-- The domain whose keys sign it when it leaves.
ALTER TABLE journey ADD COLUMN signs_for TEXT;
CREATE INDEX journey_client ON journey (client, at);
CREATE INDEX journey_refused ON journey (at) WHERE outcome = 'refused';

CREATE INDEX journey_message_id ON journey (message_id) WHERE message_id IS NOT NULL;
ALTER TABLE recipient ADD COLUMN held TEXT;
ALTER TABLE recipient ADD COLUMN held_at INTEGER;
ALTER TABLE recipient ADD COLUMN hold_account TEXT;
ALTER TABLE recipient ADD COLUMN charged INTEGER NOT NULL DEFAULT 1;
ALTER TABLE recipient ADD COLUMN notify TEXT;
ALTER TABLE recipient ADD COLUMN original TEXT;
ALTER TABLE recipient ADD COLUMN told_delay INTEGER NOT NULL DEFAULT 0;
ALTER TABLE recipient ADD COLUMN sender TEXT;
ALTER TABLE recipient ADD COLUMN payer TEXT;
ALTER TABLE recipient ADD COLUMN sender_domain TEXT;
ALTER TABLE recipient ADD COLUMN wants_outlet INTEGER NOT NULL DEFAULT 0;
UPDATE recipient SET sender_domain = (SELECT domain FROM journey WHERE id = journey_id) WHERE state IN ('delayed', 'failed');
CREATE INDEX recipient_trouble ON recipient (state, id) WHERE state IN ('delayed', 'failed');
CREATE INDEX recipient_trouble_of ON recipient (sender_domain, state, id) WHERE state IN ('delayed', 'failed');
DROP INDEX recipient_due;
CREATE INDEX recipient_due ON recipient (next_attempt_at) WHERE next_attempt_at IS NOT NULL AND held IS NULL;
CREATE INDEX recipient_wants_outlet ON recipient (id) WHERE wants_outlet = 1;
CREATE INDEX recipient_open ON recipient (domain, next_attempt_at) WHERE next_attempt_at IS NOT NULL;
CREATE INDEX recipient_held ON recipient (held, hold_account, held_at) WHERE held IS NOT NULL;

-- Settings and secrets of the whole server, by name, as JSON.
CREATE TABLE setting (
  name TEXT PRIMARY KEY,
  value TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE TABLE webhook (
  id INTEGER PRIMARY KEY,
  url TEXT NOT NULL UNIQUE,
  secret TEXT NOT NULL,
  events TEXT NOT NULL,
  created_at INTEGER NOT NULL
) STRICT;
CREATE TABLE webhook_call (
  id INTEGER PRIMARY KEY,
  webhook_id INTEGER NOT NULL REFERENCES webhook ON DELETE CASCADE,
  at INTEGER NOT NULL,
  event TEXT NOT NULL,
  body TEXT NOT NULL,
  attempts INTEGER NOT NULL DEFAULT 0,
  next_attempt_at INTEGER,
  answer TEXT
) STRICT;
CREATE INDEX webhook_call_due ON webhook_call (next_attempt_at) WHERE next_attempt_at IS NOT NULL;
CREATE INDEX webhook_call_webhook ON webhook_call (webhook_id, id);

CREATE TABLE outlet (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  kind TEXT NOT NULL CHECK (kind IN ('direct', 'smart-host')),
  host TEXT,
  port INTEGER,
  tls TEXT NOT NULL,
  user TEXT,
  secret TEXT,
  source_ipv4 TEXT,
  source_ipv6 TEXT,
  senders TEXT NOT NULL,
  destinations TEXT NOT NULL,
  position INTEGER NOT NULL,
  is_on INTEGER NOT NULL,
  when_spent TEXT NOT NULL CHECK (when_spent IN ('next', 'wait')),
  spf_include TEXT,
  created_at INTEGER NOT NULL
) STRICT;
INSERT INTO outlet (name, kind, tls, senders, destinations, position, is_on, when_spent, created_at)
  VALUES ('direct', 'direct', 'offered', '{"customers":[],"domains":[]}', '[]', 1000, 1, 'wait', 0);
CREATE TABLE outlet_charge (
  seq INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  outlet_id INTEGER NOT NULL REFERENCES outlet ON DELETE CASCADE,
  journey_id TEXT NOT NULL,
  messages INTEGER NOT NULL,
  sends INTEGER NOT NULL,
  bytes INTEGER NOT NULL
) STRICT;
CREATE INDEX outlet_charge_outlet ON outlet_charge (outlet_id, at);
ALTER TABLE network ADD COLUMN may_submit INTEGER NOT NULL DEFAULT 0;
CREATE TABLE network_domain (
  network_id INTEGER NOT NULL REFERENCES network ON DELETE CASCADE,
  domain_id INTEGER NOT NULL REFERENCES domain ON DELETE CASCADE,
  PRIMARY KEY (network_id, domain_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX network_domain_domain ON network_domain (domain_id);
ALTER TABLE domain ADD COLUMN catch_all TEXT;
ALTER TABLE domain ADD COLUMN twin_of INTEGER REFERENCES domain;
ALTER TABLE domain ADD COLUMN most_bytes INTEGER;
ALTER TABLE domain ADD COLUMN hand_to TEXT;
ALTER TABLE domain ADD COLUMN standby_list TEXT;
-- What the server that has a domain's mailboxes has said of addresses there.
CREATE TABLE known_recipient (
  domain_id INTEGER NOT NULL REFERENCES domain ON DELETE CASCADE,
  local TEXT NOT NULL,
  is_there INTEGER NOT NULL,
  at INTEGER NOT NULL,
  PRIMARY KEY (domain_id, local)
) STRICT, WITHOUT ROWID;
CREATE INDEX domain_twin ON domain (twin_of) WHERE twin_of IS NOT NULL;

ALTER TABLE journal ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
-- Words of journeys for searching: addresses, subject, Message-ID, client; the row is the journey's.
CREATE VIRTUAL TABLE journey_words USING fts5(words, content='', contentless_delete=1, detail='none', prefix='3 4 5 6', tokenize="ascii tokenchars '@._+=:/-'");

${whenGone('customer', [...LIMITS, 'full_choice', 'stop'])}
${whenGone('domain', [...LIMITS, 'full_choice', 'stop'])}
${whenGone('mailbox', [...LIMITS, 'full_choice', 'stop'])}
${whenGone('network', [...LIMITS, 'full_choice'])}
${whenGone('outlet', LIMITS)}
CREATE TRIGGER plan_gone AFTER DELETE ON plan BEGIN
  DELETE FROM sending_limit WHERE scope IN ('plan', 'plan-mailbox') AND scope_id = old.id;
END;
`;
