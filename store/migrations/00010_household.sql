-- +goose Up
-- A guest may be one for a time; when somebody was here last; the secret of a second factor, the last step of it that was used,
-- and the SHA-256 of each recovery code, as JSON.
ALTER TABLE members ADD COLUMN until_ms INTEGER NOT NULL DEFAULT 0;
ALTER TABLE members ADD COLUMN seen_ms INTEGER NOT NULL DEFAULT 0;
ALTER TABLE members ADD COLUMN factor TEXT NOT NULL DEFAULT '';
ALTER TABLE members ADD COLUMN factor_step INTEGER NOT NULL DEFAULT 0;
ALTER TABLE members ADD COLUMN recovery TEXT NOT NULL DEFAULT '[]';

-- What a token may do, as words; '' is all that its member may. When it was used last, within minutes.
ALTER TABLE passes ADD COLUMN scopes TEXT NOT NULL DEFAULT '';
ALTER TABLE passes ADD COLUMN used_ms INTEGER NOT NULL DEFAULT 0;

-- One-time links by which somebody comes into the household, or back into it; only the SHA-256 of each is kept.
CREATE TABLE invites (
  hash BLOB PRIMARY KEY,
  id TEXT NOT NULL UNIQUE,
  account TEXT NOT NULL, -- whose password it sets; '' is a new person's
  name TEXT NOT NULL,
  role TEXT NOT NULL,
  until_ms INTEGER NOT NULL,
  created_ms INTEGER NOT NULL,
  expires_ms INTEGER NOT NULL,
  by_name TEXT NOT NULL
) WITHOUT ROWID;

-- The journal is only ever added to; what is older than it is kept goes.
CREATE TRIGGER journal_stays BEFORE UPDATE ON journal BEGIN SELECT RAISE(ABORT, 'the journal cannot be changed'); END;
CREATE INDEX journal_at ON journal (at_ms);

-- Pages may only be fetched from addresses in the house where the owner says so; those that were fetched until now may.
UPDATE devices SET settings = json_set(settings, '$.link.inside', json('true')) WHERE json_extract(settings, '$.link.kind') = 'poll';

-- What each part of the configuration was before it was changed, as JSON; entry is the line of the journal that tells of it.
CREATE TABLE versions (entry INTEGER PRIMARY KEY, kind TEXT NOT NULL, id TEXT NOT NULL, body TEXT NOT NULL, after TEXT NOT NULL);

-- +goose Down
SELECT 1;
