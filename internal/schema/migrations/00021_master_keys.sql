-- +goose Up

-- Keys that drawers are under as well as under the root key.
CREATE TABLE master_keys (
    id TEXT PRIMARY KEY,
    name TEXT NOT NULL UNIQUE,
    origin TEXT NOT NULL,
    description TEXT NOT NULL,
    owner TEXT NOT NULL,
    fingerprint TEXT NOT NULL,
    sealed BLOB NOT NULL,
    token TEXT NOT NULL,
    in_memory INTEGER NOT NULL,
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL,
    withdrawn_at INTEGER NOT NULL,
    withdrawn_by TEXT NOT NULL,
    given_at INTEGER NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL
) STRICT;
ALTER TABLE drawer_keys ADD COLUMN master TEXT NOT NULL DEFAULT '';
