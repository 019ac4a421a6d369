-- +goose Up
-- By which rules a picture was made safe; those of before are made safe anew when they are next shown.
ALTER TABLE pictures ADD COLUMN rules INTEGER NOT NULL DEFAULT 0;
