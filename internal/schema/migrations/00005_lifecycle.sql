-- +goose Up
-- What people have done with versions and items besides their windows; times are microseconds since 1970, 0 for not.
ALTER TABLE versions ADD COLUMN staged INTEGER NOT NULL DEFAULT 0;
ALTER TABLE versions ADD COLUMN suspended INTEGER NOT NULL DEFAULT 0;
ALTER TABLE versions ADD COLUMN shredded_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE items ADD COLUMN held INTEGER NOT NULL DEFAULT 0;
ALTER TABLE items ADD COLUMN suspended INTEGER NOT NULL DEFAULT 0;
ALTER TABLE items ADD COLUMN retired_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE items ADD COLUMN shredded_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE items ADD COLUMN shredded_by TEXT NOT NULL DEFAULT '';
ALTER TABLE items ADD COLUMN shredded_name TEXT NOT NULL DEFAULT '';
