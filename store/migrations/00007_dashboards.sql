-- +goose Up
-- Pages that somebody arranged, as JSON.
CREATE TABLE dashboards (id TEXT PRIMARY KEY, body TEXT NOT NULL);

-- What is shown on dashboards and on the cards of places.
CREATE TABLE pictures (id TEXT PRIMARY KEY, account TEXT NOT NULL, name TEXT NOT NULL, type TEXT NOT NULL, created_ms INTEGER NOT NULL, body BLOB NOT NULL);
ALTER TABLE places ADD COLUMN picture TEXT NOT NULL DEFAULT '';

-- A pass may be that of a wall: it is for one dashboard, and for the controls on it that were chosen.
CREATE TABLE passes_next (
  hash BLOB PRIMARY KEY,
  id TEXT NOT NULL UNIQUE,
  kind TEXT NOT NULL CHECK (kind IN ('session', 'token', 'wall')),
  member TEXT NOT NULL REFERENCES members(id),
  name TEXT NOT NULL,
  created_ms INTEGER NOT NULL,
  expires_ms INTEGER NOT NULL,
  wall TEXT NOT NULL DEFAULT ''
) WITHOUT ROWID;
INSERT INTO passes_next SELECT hash, id, kind, member, name, created_ms, expires_ms, '' FROM passes;
DROP TABLE passes;
ALTER TABLE passes_next RENAME TO passes;

-- +goose Down
SELECT 1;
