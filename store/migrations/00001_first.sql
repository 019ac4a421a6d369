-- +goose Up
CREATE TABLE hub (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;

CREATE TABLE places (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL,
  position INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE devices (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL,
  place TEXT NOT NULL REFERENCES places(id),
  key_hash BLOB NOT NULL,
  lease_ms INTEGER NOT NULL,
  new_signals INTEGER NOT NULL,
  created_ms INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE signals (
  id TEXT PRIMARY KEY,
  device TEXT NOT NULL REFERENCES devices(id),
  raw TEXT NOT NULL,
  name TEXT NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('number', 'onoff', 'text')),
  unit TEXT NOT NULL,
  decimals INTEGER NOT NULL,
  reports TEXT NOT NULL CHECK (reports IN ('periodic', 'change')),
  interval_ms INTEGER NOT NULL,
  is_new INTEGER NOT NULL,
  guests TEXT NOT NULL
) WITHOUT ROWID;

CREATE TABLE controls (
  id TEXT PRIMARY KEY,
  device TEXT NOT NULL REFERENCES devices(id),
  raw TEXT NOT NULL,
  name TEXT NOT NULL,
  confirm_ms INTEGER NOT NULL,
  resume_ms INTEGER NOT NULL,
  safe INTEGER NOT NULL,
  dangerous INTEGER NOT NULL,
  at_device TEXT NOT NULL CHECK (at_device IN ('follow', 'insist')),
  answers INTEGER NOT NULL,
  guests TEXT NOT NULL
) WITHOUT ROWID;

-- What a signal, control or device is now; body is the engine's state as JSON.
CREATE TABLE state (
  kind TEXT NOT NULL,
  id TEXT NOT NULL,
  body TEXT NOT NULL,
  PRIMARY KEY (kind, id)
) WITHOUT ROWID;

-- Names of everything that has a history: signals, and the is and want of controls.
CREATE TABLE series (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);

-- v is REAL for numbers and on/off (1 and 0), TEXT for text, and an 8-byte BLOB for a negative zero, which SQLite would
-- give back as a positive one.
CREATE TABLE readings (
  series INTEGER NOT NULL,
  t INTEGER NOT NULL, -- Unix milliseconds
  v NOT NULL,
  q INTEGER NOT NULL, -- 0 good, 1 suspect, 2 bad
  PRIMARY KEY (series, t)
) WITHOUT ROWID;

CREATE TABLE members (
  id TEXT PRIMARY KEY,
  name TEXT NOT NULL,
  role TEXT NOT NULL CHECK (role IN ('owner', 'member', 'guest')),
  password TEXT NOT NULL,
  created_ms INTEGER NOT NULL,
  disabled INTEGER NOT NULL
) WITHOUT ROWID;

-- Browser sessions and tokens alike: what is presented is only kept as its SHA-256.
CREATE TABLE passes (
  hash BLOB PRIMARY KEY,
  id TEXT NOT NULL UNIQUE,
  kind TEXT NOT NULL CHECK (kind IN ('session', 'token')),
  member TEXT NOT NULL REFERENCES members(id),
  name TEXT NOT NULL,
  created_ms INTEGER NOT NULL,
  expires_ms INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE journal (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  at_ms INTEGER NOT NULL,
  actor_kind TEXT NOT NULL,
  actor_id TEXT NOT NULL,
  actor_name TEXT NOT NULL,
  source TEXT NOT NULL,
  action TEXT NOT NULL,
  object TEXT NOT NULL,
  before TEXT NOT NULL,
  after TEXT NOT NULL,
  reason TEXT NOT NULL
);
CREATE INDEX journal_object ON journal (object, id);

-- The last refusals of each device: slot is the count modulo their number, so that the table cannot grow.
CREATE TABLE refusals (
  device TEXT NOT NULL,
  slot INTEGER NOT NULL,
  n INTEGER NOT NULL,
  at_ms INTEGER NOT NULL,
  link TEXT NOT NULL,
  topic TEXT NOT NULL,
  payload BLOB NOT NULL,
  bytes INTEGER NOT NULL,
  reason TEXT NOT NULL,
  PRIMARY KEY (device, slot)
) WITHOUT ROWID;

-- What the engine was given, with its time: one row for each commit, packed JSON.
CREATE TABLE inputs (seq INTEGER PRIMARY KEY AUTOINCREMENT, at_ms INTEGER NOT NULL, body BLOB NOT NULL);
CREATE INDEX inputs_at ON inputs (at_ms);

-- +goose Down
SELECT 1;
