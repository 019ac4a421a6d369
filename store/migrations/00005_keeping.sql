-- +goose Up
-- Hours of a series before this time (Unix milliseconds) have sums and no readings any more.
ALTER TABLE series ADD COLUMN thinned INTEGER NOT NULL DEFAULT -9223372036854775808;

-- Blocks that could not be read when something was to be put into them, for whoever wants to rescue what they hold.
CREATE TABLE damaged (key INTEGER NOT NULL, until INTEGER NOT NULL, count INTEGER NOT NULL, body BLOB NOT NULL, at_ms INTEGER NOT NULL);

-- Views of charts that somebody gave a name.
CREATE TABLE views (id INTEGER PRIMARY KEY, account TEXT NOT NULL, name TEXT NOT NULL, view TEXT NOT NULL, shared INTEGER NOT NULL, UNIQUE (account, name));

-- +goose Down
SELECT 1;
