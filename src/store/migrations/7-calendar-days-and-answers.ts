/** Limits by the calendar day; and what a request with a key of its own was answered, so that it is done once only. */
export const migration = `
-- Triggers name the table, so it is made anew under its own name.
CREATE TABLE sending_limit_6 AS SELECT * FROM sending_limit;
DROP TABLE sending_limit;
CREATE TABLE sending_limit (
  scope TEXT NOT NULL,
  scope_id INTEGER NOT NULL,
  period TEXT NOT NULL CHECK (period IN ('minute', 'hour', 'day', 'calendar-day', 'month')),
  quantity TEXT NOT NULL CHECK (quantity IN ('messages', 'sends', 'bytes')),
  amount INTEGER,
  PRIMARY KEY (scope, scope_id, period, quantity)
) STRICT, WITHOUT ROWID;
INSERT INTO sending_limit SELECT * FROM sending_limit_6;
DROP TABLE sending_limit_6;

-- What the request was, by a keyed digest; the answer is sealed. Without one it was under way when the service stopped.
CREATE TABLE answered_request (
  account_id INTEGER NOT NULL REFERENCES account (id) ON DELETE CASCADE,
  key TEXT NOT NULL,
  request BLOB NOT NULL,
  at INTEGER NOT NULL,
  status INTEGER,
  answer TEXT,
  PRIMARY KEY (account_id, key)
) STRICT, WITHOUT ROWID;
CREATE INDEX answered_request_at ON answered_request (at);

-- Who signs in without a domain is found by the name alone.
CREATE INDEX mailbox_local ON mailbox (local);
`;
