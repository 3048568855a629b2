-- +goose Up

-- Certificates, and the authorities and profiles that make them: what they say is public, and known without opening the version.
ALTER TABLE versions ADD COLUMN facts TEXT NOT NULL DEFAULT '';
ALTER TABLE items ADD COLUMN served_at TEXT NOT NULL DEFAULT '';

-- What the authorities of a chest have signed. All of it is in memory while the chest is unlocked.
CREATE TABLE issued (
    id TEXT PRIMARY KEY,
    authority TEXT NOT NULL,
    serial TEXT NOT NULL,
    subject TEXT NOT NULL,
    names TEXT NOT NULL,
    key_type TEXT NOT NULL,
    fingerprint TEXT NOT NULL,
    not_before INTEGER NOT NULL,
    not_after INTEGER NOT NULL,
    profile TEXT NOT NULL,
    place TEXT NOT NULL,
    holder TEXT NOT NULL,
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL,
    revoked_at INTEGER NOT NULL,
    revoked_by TEXT NOT NULL,
    reason TEXT NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL
) STRICT;
