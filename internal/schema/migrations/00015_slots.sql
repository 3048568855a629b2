-- +goose Up

-- Methods of unlocking, several at once: each has the chest's unlock key under its own material, and the unlock key wraps the root key.
-- The one that a chest was founded with wraps the root key itself until it is used for the first time; its row has no MAC until then.
CREATE TABLE slots (
    id TEXT PRIMARY KEY,
    name TEXT NOT NULL UNIQUE,
    method TEXT NOT NULL,
    salt BLOB NOT NULL,
    passes INTEGER NOT NULL,
    memory_kib INTEGER NOT NULL,
    threads INTEGER NOT NULL,
    wrapped BLOB NOT NULL,
    shares TEXT NOT NULL,
    not_after INTEGER NOT NULL,
    used_at INTEGER NOT NULL,
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL
) STRICT;

INSERT INTO slots SELECT 'sl_founding', 'founding', slot_method, slot_salt, slot_passes, slot_memory_kib, slot_threads, slot_wrapped, '', 0, 0,
    created_at, 'init', 0, x'' FROM chest;

ALTER TABLE chest DROP COLUMN slot_method;
ALTER TABLE chest DROP COLUMN slot_salt;
ALTER TABLE chest DROP COLUMN slot_passes;
ALTER TABLE chest DROP COLUMN slot_memory_kib;
ALTER TABLE chest DROP COLUMN slot_threads;
ALTER TABLE chest DROP COLUMN slot_wrapped;

-- The root key under the unlock key, and what outlasts a root key that is turned under the root key of the day; empty while it is the same.
ALTER TABLE chest ADD COLUMN root_wrapped BLOB NOT NULL DEFAULT x'';
ALTER TABLE chest ADD COLUMN base_sealed BLOB NOT NULL DEFAULT x'';

-- Who holds which share of a slot's secret. A share is kept, sealed, until its holder has taken it.
CREATE TABLE shares (
    id TEXT PRIMARY KEY,
    slot TEXT NOT NULL REFERENCES slots (id),
    number INTEGER NOT NULL,
    holder TEXT NOT NULL,
    sealed BLOB NOT NULL,
    taken_at INTEGER NOT NULL,
    created_at INTEGER NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL,
    UNIQUE (slot, number)
) STRICT;
