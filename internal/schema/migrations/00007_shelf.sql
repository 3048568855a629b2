-- +goose Up
-- Until when something of an item is served if nobody does anything: microseconds since 1970, the largest number for
-- always, 0 for nothing now; and when the oldest version that is served until then was made. They let what is due be found
-- without looking at every item.
ALTER TABLE items ADD COLUMN served_until INTEGER NOT NULL DEFAULT 0;
ALTER TABLE items ADD COLUMN served_since INTEGER NOT NULL DEFAULT 0;
-- What an item demands of itself beyond its drawer, when it was resumed after nobody had read it for long, and whether no
-- person is ever shown its value.
ALTER TABLE items ADD COLUMN rules TEXT NOT NULL DEFAULT '';
ALTER TABLE items ADD COLUMN awake_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE items ADD COLUMN use_only INTEGER NOT NULL DEFAULT 0;
-- What a drawer demands of its items, as JSON that internal/core/lifecycle reads.
ALTER TABLE drawers ADD COLUMN rules TEXT NOT NULL DEFAULT '';
CREATE INDEX items_served_until ON items (drawer, served_until) WHERE retired_at = 0 AND shredded_at = 0;
CREATE INDEX items_served_since ON items (drawer, served_since) WHERE retired_at = 0 AND shredded_at = 0;
CREATE INDEX items_retired ON items (drawer, name) WHERE retired_at != 0 AND shredded_at = 0;
CREATE INDEX items_shredded ON items (drawer, name) WHERE shredded_at != 0;
CREATE INDEX items_labelled ON items (drawer, name) WHERE labels != '' AND shredded_at = 0;
CREATE INDEX items_owner ON items (drawer, owner, name) WHERE shredded_at = 0;
-- What a search by words or by what is said about an item looks through, instead of the whole rows.
CREATE INDEX items_said ON items (drawer, name, description, owner, labels, shape, created_by) WHERE shredded_at = 0;

-- The same texts by every three letters in a row, so that what few items have is found without looking at the others.
CREATE VIRTUAL TABLE items_words USING fts5(name, description, owner, labels, shape, created_by, content='', contentless_delete=1, tokenize='trigram');
INSERT INTO items_words (rowid, name, description, owner, labels, shape, created_by)
SELECT rowid, name, description, owner, labels, shape, created_by FROM items;

-- A name that an item had before it was renamed or moved, under which it is still served until a time.
CREATE TABLE aliases (
    id TEXT PRIMARY KEY,
    drawer TEXT NOT NULL REFERENCES drawers (id),
    name TEXT NOT NULL,
    item TEXT NOT NULL REFERENCES items (id),
    not_after INTEGER NOT NULL,
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL,
    UNIQUE (drawer, name)
) STRICT;

-- A private address under which somebody's calendar of what is due is given without a sign-in; only its hash is kept.
CREATE TABLE calendars (
    id TEXT PRIMARY KEY,
    identity TEXT NOT NULL REFERENCES identities (id),
    hash BLOB NOT NULL UNIQUE,
    note TEXT NOT NULL,
    not_after INTEGER NOT NULL,
    created_at INTEGER NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL
) STRICT;

-- A shredded drawer keeps its row as history and gives its name free.
ALTER TABLE drawers ADD COLUMN shredded_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE drawers ADD COLUMN shredded_by TEXT NOT NULL DEFAULT '';
ALTER TABLE drawers ADD COLUMN shredded_name TEXT NOT NULL DEFAULT '';

-- Ten bits of a keyed fingerprint of a version's value, plus one, by which versions with the same value are looked for;
-- 0 for none. It is too little to say that two are equal, or to guess a value.
ALTER TABLE versions ADD COLUMN likeness INTEGER NOT NULL DEFAULT 0;
CREATE INDEX versions_likeness ON versions (likeness) WHERE likeness != 0 AND shredded_at = 0;
