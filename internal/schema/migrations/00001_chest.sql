-- +goose Up
-- One row: what the chest is, how its root key is opened, and the tally of all authenticated rows.
CREATE TABLE chest (
    one INTEGER PRIMARY KEY CHECK (one = 1),
    id TEXT NOT NULL,
    created_at INTEGER NOT NULL,
    slot_method TEXT NOT NULL,
    slot_salt BLOB NOT NULL,
    slot_passes INTEGER NOT NULL,
    slot_memory_kib INTEGER NOT NULL,
    slot_threads INTEGER NOT NULL,
    slot_wrapped BLOB NOT NULL,
    authority_certificate BLOB NOT NULL,
    authority_sealed BLOB NOT NULL,
    tally BLOB NOT NULL,
    tally_revision INTEGER NOT NULL,
    tally_mac BLOB NOT NULL
) STRICT;

-- Every table below whose rows decide access has a revision and a MAC; times are microseconds since 1970, 0 for none.
CREATE TABLE identities (
    id TEXT PRIMARY KEY,
    kind TEXT NOT NULL,
    name TEXT NOT NULL,
    description TEXT NOT NULL,
    owner TEXT NOT NULL,
    state TEXT NOT NULL,
    password TEXT NOT NULL,
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL,
    UNIQUE (kind, name)
) STRICT;

CREATE TABLE credentials (
    id TEXT PRIMARY KEY,
    identity TEXT NOT NULL REFERENCES identities (id),
    kind TEXT NOT NULL,
    hash BLOB NOT NULL UNIQUE,
    not_after INTEGER NOT NULL,
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL
) STRICT;

CREATE TABLE tokens (
    id TEXT PRIMARY KEY,
    identity TEXT NOT NULL REFERENCES identities (id),
    kind TEXT NOT NULL,
    via TEXT NOT NULL,
    credential TEXT NOT NULL,
    not_after INTEGER NOT NULL,
    created_at INTEGER NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL
) STRICT;

CREATE TABLE grants (
    id TEXT PRIMARY KEY,
    subject TEXT NOT NULL REFERENCES identities (id),
    effect TEXT NOT NULL,
    role TEXT NOT NULL,
    scope TEXT NOT NULL,
    not_after INTEGER NOT NULL,
    reason TEXT NOT NULL,
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL,
    ended_at INTEGER NOT NULL,
    ended_by TEXT NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL
) STRICT;

CREATE TABLE drawers (
    id TEXT PRIMARY KEY,
    name TEXT NOT NULL UNIQUE,
    environment TEXT NOT NULL,
    description TEXT NOT NULL,
    owner TEXT NOT NULL,
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL
) STRICT;

CREATE TABLE drawer_keys (
    id TEXT PRIMARY KEY,
    drawer TEXT NOT NULL REFERENCES drawers (id),
    number INTEGER NOT NULL,
    wrapped BLOB NOT NULL,
    created_at INTEGER NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL,
    UNIQUE (drawer, number)
) STRICT;

CREATE TABLE items (
    id TEXT PRIMARY KEY,
    drawer TEXT NOT NULL REFERENCES drawers (id),
    name TEXT NOT NULL,
    kind TEXT NOT NULL,
    description TEXT NOT NULL,
    owner TEXT NOT NULL,
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL,
    UNIQUE (drawer, name)
) STRICT;

CREATE TABLE versions (
    id TEXT PRIMARY KEY,
    item TEXT NOT NULL REFERENCES items (id),
    number INTEGER NOT NULL,
    size INTEGER NOT NULL,
    ends_in_newline INTEGER NOT NULL,
    note TEXT NOT NULL,
    not_before INTEGER NOT NULL,
    not_after INTEGER NOT NULL,
    drawer_key INTEGER NOT NULL,
    wrapped_key BLOB NOT NULL,
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL,
    UNIQUE (item, number)
) STRICT;

-- Ciphertexts stand apart so that loading the rows at unlock does not read them.
CREATE TABLE contents (
    version TEXT PRIMARY KEY REFERENCES versions (id),
    ciphertext BLOB NOT NULL
) STRICT;

-- The trail: the canonical bytes of each entry, and a refusal's receipt, which stands in a column of its own so that
-- looking one up does not read the whole trail.
CREATE TABLE entries (
    seq INTEGER PRIMARY KEY,
    body TEXT NOT NULL,
    receipt TEXT
) STRICT;

CREATE INDEX entries_receipt ON entries (receipt) WHERE receipt IS NOT NULL;

-- What is asked of the trail is computed when it is asked: as columns of the table it would be computed at each insert.
CREATE VIEW trail AS
SELECT
    seq,
    body,
    receipt,
    json_extract(body, '$.at') AS at,
    json_extract(body, '$.subject') AS subject,
    json_extract(body, '$.action') AS action,
    json_extract(body, '$.target') AS target,
    json_extract(body, '$.outcome') AS outcome,
    json_extract(body, '$.request_id') AS request_id
FROM entries;
