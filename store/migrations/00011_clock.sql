-- +goose Up
-- What devices stamped themselves while the hub's own clock was not believed, as a JSON array of Unix milliseconds: it stays
-- where it is when the rest is moved.
CREATE TABLE own_stamps (series TEXT NOT NULL, arrival_ms INTEGER NOT NULL, at TEXT NOT NULL);

-- +goose Down
SELECT 1;
