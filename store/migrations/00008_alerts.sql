-- +goose Up
-- Parts may be alerts and routes too.
CREATE TABLE parts_next (
  kind TEXT NOT NULL CHECK (kind IN ('automation', 'group', 'setting', 'preset', 'rule', 'alert', 'route')),
  id TEXT NOT NULL,
  body TEXT NOT NULL,
  PRIMARY KEY (kind, id)
) WITHOUT ROWID;
INSERT INTO parts_next SELECT kind, id, body FROM parts;
DROP TABLE parts;
ALTER TABLE parts_next RENAME TO parts;

-- What became of alerts, one row a transition.
CREATE TABLE alert_events (
  id INTEGER PRIMARY KEY,
  at_ms INTEGER NOT NULL,
  alert TEXT NOT NULL,
  name TEXT NOT NULL,
  place TEXT NOT NULL,
  severity TEXT NOT NULL,
  n INTEGER NOT NULL,
  what TEXT NOT NULL,
  value TEXT NOT NULL,
  by_name TEXT NOT NULL,
  word TEXT NOT NULL
);
CREATE INDEX alert_events_at ON alert_events (at_ms);
CREATE INDEX alert_events_alert ON alert_events (alert, id);

-- Messages of rules keep their list; what is sent to people waits in deliveries.
ALTER TABLE outbox RENAME TO messages;

-- Messages on their way to people: one row a message and route. mid is the same however often it is tried.
CREATE TABLE deliveries (
  id INTEGER PRIMARY KEY,
  mid TEXT NOT NULL UNIQUE,
  route TEXT NOT NULL,
  alert TEXT NOT NULL,
  at_ms INTEGER NOT NULL,
  next_ms INTEGER NOT NULL,
  tries INTEGER NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('waiting', 'sent', 'failed')),
  done_ms INTEGER NOT NULL,
  answer TEXT NOT NULL,
  body TEXT NOT NULL
);
CREATE INDEX deliveries_waiting ON deliveries (state, route, id);

-- Where installed consoles take pushes.
CREATE TABLE subscriptions (endpoint TEXT PRIMARY KEY, account TEXT NOT NULL, p256dh TEXT NOT NULL, auth TEXT NOT NULL, created_ms INTEGER NOT NULL);

-- +goose Down
SELECT 1;
