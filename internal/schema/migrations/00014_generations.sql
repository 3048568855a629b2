-- +goose Up

-- How often all tokens of an identity were ended at once: by another password, a suspension, setting aside. A token is of the generation
-- in which it was given, and good in no later one.
ALTER TABLE identities ADD COLUMN generation INTEGER NOT NULL DEFAULT 0;
ALTER TABLE tokens ADD COLUMN generation INTEGER NOT NULL DEFAULT 0;
