-- +goose Up
-- A team is an identity of the kind "team"; a row here says who is in it.
CREATE TABLE members (
    id TEXT PRIMARY KEY,
    team TEXT NOT NULL REFERENCES identities (id),
    identity TEXT NOT NULL REFERENCES identities (id),
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL
) STRICT;
