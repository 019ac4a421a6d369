-- +goose Up
-- Settings are JSON: how a device is linked, how a signal or control is mapped and calibrated.
ALTER TABLE devices ADD COLUMN settings TEXT NOT NULL DEFAULT '{"link":{"kind":"mqtt"}}';
ALTER TABLE signals ADD COLUMN settings TEXT NOT NULL DEFAULT '{}';
ALTER TABLE controls ADD COLUMN settings TEXT NOT NULL DEFAULT '{}';

-- What a reading was before its calibration; NULL where v is what came.
ALTER TABLE readings ADD COLUMN raw REAL;

-- Brokers elsewhere. The password must be shown to them, so it is kept as it is, apart from what is recorded elsewhere.
CREATE TABLE brokers (id TEXT PRIMARY KEY, body TEXT NOT NULL, password TEXT NOT NULL) WITHOUT ROWID;

CREATE TABLE models (id TEXT PRIMARY KEY, body TEXT NOT NULL) WITHOUT ROWID;

-- +goose Down
SELECT 1;
