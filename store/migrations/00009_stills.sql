-- +goose Up
-- Still pictures of devices. cause is the alert and its time, as in kiln_door#3; empty where somebody asked.
CREATE TABLE stills (
  id INTEGER PRIMARY KEY,
  device TEXT NOT NULL,
  at_ms INTEGER NOT NULL,
  cause TEXT NOT NULL,
  body BLOB NOT NULL
);
CREATE INDEX stills_device ON stills (device, at_ms);
CREATE INDEX stills_cause ON stills (cause);

-- +goose Down
SELECT 1;
