/** Accounts, customers, domains, mailboxes, journeys, journal, ledger and stored messages. Frozen: a database out there was made by it. */
export const migration = `
CREATE TABLE account (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE,
  password_hash TEXT,
  code_hash TEXT,
  created_at INTEGER NOT NULL
) STRICT;
CREATE TABLE api_token (
  id INTEGER PRIMARY KEY,
  account_id INTEGER NOT NULL REFERENCES account ON DELETE CASCADE,
  name TEXT NOT NULL,
  hash TEXT NOT NULL UNIQUE,
  created_at INTEGER NOT NULL,
  used_at INTEGER,
  UNIQUE (account_id, name)
) STRICT;
CREATE TABLE web_session (
  hash TEXT PRIMARY KEY,
  account_id INTEGER NOT NULL REFERENCES account ON DELETE CASCADE,
  guard TEXT NOT NULL,
  created_at INTEGER NOT NULL,
  expires_at INTEGER NOT NULL
) STRICT;

CREATE TABLE customer (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  created_at INTEGER NOT NULL
) STRICT;
CREATE TABLE plan (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  hour_limit INTEGER,
  day_limit INTEGER,
  quota_bytes INTEGER NOT NULL,
  most_mailboxes INTEGER NOT NULL,
  created_at INTEGER NOT NULL
) STRICT;
CREATE TABLE domain (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE,
  customer_id INTEGER NOT NULL REFERENCES customer,
  plan_id INTEGER NOT NULL REFERENCES plan,
  role TEXT NOT NULL CHECK (role IN ('home', 'pass-on', 'standby', 'away')),
  hour_limit INTEGER,
  day_limit INTEGER,
  created_at INTEGER NOT NULL
) STRICT;
CREATE INDEX domain_customer ON domain (customer_id);
CREATE INDEX domain_plan ON domain (plan_id);
CREATE TABLE dkim_key (
  id INTEGER PRIMARY KEY,
  domain_id INTEGER NOT NULL REFERENCES domain ON DELETE CASCADE,
  selector TEXT NOT NULL,
  private_key TEXT NOT NULL,
  public_key TEXT NOT NULL,
  created_at INTEGER NOT NULL,
  UNIQUE (domain_id, selector)
) STRICT;
CREATE TABLE mailbox (
  id INTEGER PRIMARY KEY,
  domain_id INTEGER NOT NULL REFERENCES domain ON DELETE CASCADE,
  local TEXT NOT NULL,
  password_hash TEXT NOT NULL,
  quota_bytes INTEGER NOT NULL,
  used_bytes INTEGER NOT NULL DEFAULT 0,
  created_at INTEGER NOT NULL,
  UNIQUE (domain_id, local)
) STRICT;
CREATE TABLE alias (
  id INTEGER PRIMARY KEY,
  domain_id INTEGER NOT NULL REFERENCES domain ON DELETE CASCADE,
  local TEXT NOT NULL,
  created_at INTEGER NOT NULL,
  UNIQUE (domain_id, local)
) STRICT;
CREATE TABLE alias_target (
  alias_id INTEGER NOT NULL REFERENCES alias ON DELETE CASCADE,
  address TEXT NOT NULL,
  PRIMARY KEY (alias_id, address)
) STRICT, WITHOUT ROWID;
CREATE INDEX alias_target_address ON alias_target (address);

CREATE TABLE journey (
  id TEXT PRIMARY KEY,
  at INTEGER NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('received', 'submitted', 'report')),
  outcome TEXT NOT NULL CHECK (outcome IN ('accepted', 'refused')),
  sender TEXT,
  recipients TEXT NOT NULL,
  subject TEXT NOT NULL,
  size INTEGER NOT NULL,
  client TEXT NOT NULL,
  domain TEXT,
  file TEXT
) STRICT;
CREATE INDEX journey_at ON journey (at);
CREATE INDEX journey_domain ON journey (domain, at);
CREATE INDEX journey_file ON journey (file);
CREATE TABLE recipient (
  id INTEGER PRIMARY KEY,
  journey_id TEXT NOT NULL REFERENCES journey ON DELETE CASCADE,
  address TEXT NOT NULL,
  domain TEXT NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('queued', 'delivered', 'delayed', 'relayed', 'failed')),
  attempts INTEGER NOT NULL DEFAULT 0,
  next_attempt_at INTEGER,
  reply TEXT,
  changed_at INTEGER NOT NULL
) STRICT;
CREATE INDEX recipient_journey ON recipient (journey_id);
CREATE INDEX recipient_due ON recipient (next_attempt_at) WHERE next_attempt_at IS NOT NULL;
CREATE TABLE journal (
  seq INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  journey_id TEXT,
  domain TEXT,
  event TEXT NOT NULL,
  data TEXT NOT NULL
) STRICT;
CREATE INDEX journal_journey ON journal (journey_id, seq);
CREATE INDEX journal_at ON journal (at);
CREATE INDEX journal_domain ON journal (domain, at);
CREATE TABLE ledger (
  seq INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  domain_id INTEGER NOT NULL REFERENCES domain ON DELETE CASCADE,
  mailbox_id INTEGER REFERENCES mailbox ON DELETE SET NULL,
  journey_id TEXT NOT NULL,
  sends INTEGER NOT NULL CHECK (sends > 0)
) STRICT;
CREATE INDEX ledger_domain ON ledger (domain_id, at);
CREATE INDEX ledger_at ON ledger (at, domain_id, sends);
CREATE INDEX ledger_mailbox ON ledger (mailbox_id);
CREATE TABLE stored_message (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  mailbox_id INTEGER NOT NULL REFERENCES mailbox ON DELETE CASCADE,
  folder TEXT NOT NULL,
  file TEXT NOT NULL,
  size INTEGER NOT NULL,
  envelope_sender TEXT,
  journey_id TEXT NOT NULL,
  arrived_at INTEGER NOT NULL
) STRICT;
CREATE INDEX stored_message_mailbox ON stored_message (mailbox_id, folder, id);
CREATE INDEX stored_message_file ON stored_message (file);
CREATE TABLE check_result (
  domain_id INTEGER PRIMARY KEY REFERENCES domain ON DELETE CASCADE,
  checked_at INTEGER NOT NULL,
  readiness INTEGER,
  mx TEXT,
  spf TEXT,
  dkim TEXT,
  dmarc TEXT,
  reverse TEXT,
  findings TEXT NOT NULL
) STRICT;
CREATE TABLE fresh_text (
  name TEXT PRIMARY KEY,
  content BLOB NOT NULL
) STRICT;
CREATE INDEX check_result_readiness ON check_result (readiness);
`;
