-- +goose Up

-- The trail as it was committed: each row holds entries that follow each other, from number "first" on, one to a line.
-- A commit writes one row, or few, whatever the number of its entries.
CREATE TABLE entry_rows (
    first INTEGER PRIMARY KEY,
    bodies TEXT NOT NULL
) STRICT;

INSERT INTO entry_rows (first, bodies) SELECT seq, body || char(10) FROM entries;

DROP VIEW trail;
DROP TABLE entries;
ALTER TABLE entry_rows RENAME TO entries;

-- All below, except checkpoints, is worked out from the entries, up to number "seq" here, and could be worked out again.
-- The part up to "goal" has been begun.
CREATE TABLE indexed (
    one INTEGER PRIMARY KEY CHECK (one = 1),
    seq INTEGER NOT NULL,
    goal INTEGER NOT NULL
) STRICT;

INSERT INTO indexed (one, seq, goal) VALUES (1, 0, 0);

-- Which entries of a block say something, such as "subject app:ticket-api": two bytes each, the place in the block.
CREATE TABLE postings (
    key TEXT NOT NULL,
    block INTEGER NOT NULL,
    places BLOB NOT NULL,
    PRIMARY KEY (key, block)
) STRICT, WITHOUT ROWID;

-- The times between which the entries of a block were made, in microseconds since 1970, and four bytes of a hash of each
-- one's request.
CREATE TABLE blocks (
    number INTEGER PRIMARY KEY,
    earliest INTEGER NOT NULL,
    latest INTEGER NOT NULL,
    requests BLOB NOT NULL
) STRICT;

-- How often and when something was used, by whom or on what: the last time, and the first.
CREATE TABLE uses (
    kind TEXT NOT NULL,
    key TEXT NOT NULL,
    other TEXT NOT NULL,
    seq INTEGER NOT NULL,
    at INTEGER NOT NULL,
    detail TEXT NOT NULL,
    count INTEGER NOT NULL,
    first_seq INTEGER NOT NULL,
    first_at INTEGER NOT NULL,
    PRIMARY KEY (kind, key, other)
) STRICT, WITHOUT ROWID;

CREATE INDEX uses_first ON uses (kind, first_at);

-- The hashes of the Merkle tree over the entries (RFC 9162), in the order in which they become known; each row holds
-- those from number "first" on, 32 bytes each.
CREATE TABLE hashes (
    first INTEGER PRIMARY KEY,
    hashes BLOB NOT NULL
) STRICT;

-- Signed statements of the size and the root of that tree.
CREATE TABLE checkpoints (
    size INTEGER PRIMARY KEY,
    at INTEGER NOT NULL,
    note TEXT NOT NULL
) STRICT;

-- Refusals that were counted and not recorded one by one, because there were too many that are alike. Each row becomes one
-- entry when its time is over.
CREATE TABLE folds (
    key TEXT PRIMARY KEY,
    sample TEXT NOT NULL,
    count INTEGER NOT NULL,
    since INTEGER NOT NULL,
    last INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- Up to which entry each outlet has passed the trail on.
CREATE TABLE outlets (
    name TEXT PRIMARY KEY,
    seq INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
