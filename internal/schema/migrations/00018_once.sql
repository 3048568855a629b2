-- +goose Up

-- What was done under a key that its caller gave it, so that it is not done twice (the header Idempotency-Key): a hash of who and the key,
-- and the request's id in the trail. Rows are kept for a day.
CREATE TABLE done_once (
    id BLOB PRIMARY KEY,
    request TEXT NOT NULL,
    at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

CREATE INDEX done_once_at ON done_once (at);
