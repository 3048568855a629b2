-- +goose Up

-- The tally of items and their versions, in parts: each holds those whose ids begin alike, so that a part is checked when something in
-- it is first used, and not all of them before anything is served. The parts count in the tally of the chest.
CREATE TABLE buckets (
    id TEXT PRIMARY KEY,
    sum BLOB NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL
) STRICT, WITHOUT ROWID;

-- How rows are tallied: 1, all together; 2, items and versions by buckets. A chest of the first form becomes one of the second when it
-- is unlocked, after all of it was checked as it was.
ALTER TABLE chest ADD COLUMN tally_form INTEGER NOT NULL DEFAULT 1;
