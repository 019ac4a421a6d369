-- +goose Up
-- Parts of the configuration that the hub decides by: automation of controls, groups, settings, presets and rules. body is JSON.
CREATE TABLE parts (
  kind TEXT NOT NULL CHECK (kind IN ('automation', 'group', 'setting', 'preset', 'rule')),
  id TEXT NOT NULL,
  body TEXT NOT NULL,
  PRIMARY KEY (kind, id)
) WITHOUT ROWID;

-- Remarks at a time, about a place, a device, a signal or a control.
CREATE TABLE notes (
  id INTEGER PRIMARY KEY,
  at_ms INTEGER NOT NULL,
  object TEXT NOT NULL,
  text TEXT NOT NULL,
  by_name TEXT NOT NULL
);
CREATE INDEX notes_at ON notes (at_ms);

-- Messages to people, until they are delivered.
CREATE TABLE outbox (
  id INTEGER PRIMARY KEY,
  at_ms INTEGER NOT NULL,
  object TEXT NOT NULL,
  text TEXT NOT NULL,
  grave INTEGER NOT NULL,
  by_name TEXT NOT NULL
);
CREATE INDEX outbox_at ON outbox (at_ms);

-- +goose Down
SELECT 1;
