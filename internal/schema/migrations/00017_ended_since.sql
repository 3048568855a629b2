-- +goose Up

-- What a later trail says was ended after the backup that the file comes from, until the next unlock, which ends it again: an identity
-- (by its name), a membership (two names), or a grant, a credential, a calendar address, an item or a version of it (by its id).
CREATE TABLE ended_since (
    seq INTEGER NOT NULL, -- of the entry that says so
    kind TEXT NOT NULL,
    id TEXT NOT NULL,
    version INTEGER NOT NULL,
    PRIMARY KEY (kind, id, version)
) STRICT;
