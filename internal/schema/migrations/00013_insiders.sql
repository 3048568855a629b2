-- +goose Up

-- A person whom nobody but who registered them has seen: what they are given, and what they agree to, counts as that one's own.
ALTER TABLE identities ADD COLUMN unconfirmed INTEGER NOT NULL DEFAULT 0;

-- And who issued the enrolment code that a person was given last, and so saw it.
ALTER TABLE identities ADD COLUMN code_by TEXT NOT NULL DEFAULT '';

-- What a request is about, by its id, which no renaming changes; empty for a grant, and for requests from before.
ALTER TABLE requests ADD COLUMN target_id TEXT NOT NULL DEFAULT '';

-- Chests of some versions have been without it.
CREATE INDEX IF NOT EXISTS uses_other ON uses (kind, other);
