-- +goose Up

-- That the file comes from a backup, or that entries were missing, from then until the next unlock, with which another epoch of the trail
-- begins: how many entries were kept, how many numbers after them are not used again, and of when the backup is (0 for none).
CREATE TABLE restored (
    one INTEGER PRIMARY KEY CHECK (one = 1),
    kept INTEGER NOT NULL,
    skipped INTEGER NOT NULL,
    backup_at INTEGER NOT NULL,
    at INTEGER NOT NULL
) STRICT;
