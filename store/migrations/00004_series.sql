-- +goose Up
-- What came, one row for each commit: readings that may not be in blocks yet (see store/log.go), and what the engine was
-- given, packed, for a while.
CREATE TABLE log (seq INTEGER PRIMARY KEY, at_ms INTEGER NOT NULL, readings BLOB, inputs BLOB);

-- Rows of the log up to this one are in blocks.
CREATE TABLE sealed (one INTEGER PRIMARY KEY CHECK (one = 1), seq INTEGER NOT NULL);
INSERT INTO sealed VALUES (1, 0);

-- Sealed readings, see docs/series.md. The key is made of the series and the time of the first reading; what comes before
-- the next block belongs to this one.
CREATE TABLE blocks (key INTEGER PRIMARY KEY, until INTEGER NOT NULL, count INTEGER NOT NULL, body BLOB NOT NULL);

-- Hours of a day summed up; the key is made of the series and the day.
CREATE TABLE cells (key INTEGER PRIMARY KEY, body BLOB NOT NULL);

DROP TABLE inputs;

ALTER TABLE notes ADD COLUMN until_ms INTEGER; -- of a note about a stretch

-- +goose Down
SELECT 1;
