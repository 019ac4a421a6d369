-- +goose Up
-- What an owner wrote down about a place, as JSON.
ALTER TABLE places ADD COLUMN facts TEXT NOT NULL DEFAULT '[]';

-- How each person wants the console, as JSON.
CREATE TABLE preferences (account TEXT PRIMARY KEY, body TEXT NOT NULL);

-- +goose Down
SELECT 1;
