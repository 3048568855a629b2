-- +goose Up
-- Labels, as text that internal/core/reference parses, and whose reads of which items need a second person's approval.
ALTER TABLE drawers ADD COLUMN labels TEXT NOT NULL DEFAULT '';
ALTER TABLE drawers ADD COLUMN approval_items TEXT NOT NULL DEFAULT '';
ALTER TABLE drawers ADD COLUMN approval_of TEXT NOT NULL DEFAULT '';
ALTER TABLE items ADD COLUMN labels TEXT NOT NULL DEFAULT '';

-- What an app is for, and where it runs.
ALTER TABLE identities ADD COLUMN purpose TEXT NOT NULL DEFAULT '';
ALTER TABLE identities ADD COLUMN environment TEXT NOT NULL DEFAULT '';

-- Custom roles: sets of actions by name.
CREATE TABLE roles (
    id TEXT PRIMARY KEY,
    name TEXT NOT NULL UNIQUE,
    description TEXT NOT NULL,
    actions TEXT NOT NULL,
    created_at INTEGER NOT NULL,
    created_by TEXT NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL
) STRICT;

-- What somebody asks somebody else to allow: a grant, or one item's value for a while.
CREATE TABLE requests (
    id TEXT PRIMARY KEY,
    kind TEXT NOT NULL,
    asker TEXT NOT NULL REFERENCES identities (id),
    subject TEXT NOT NULL REFERENCES identities (id),
    action TEXT NOT NULL,
    target TEXT NOT NULL,
    reason TEXT NOT NULL,
    receipt TEXT NOT NULL,
    proposal TEXT NOT NULL,
    state TEXT NOT NULL,
    answer TEXT NOT NULL,
    answered_at INTEGER NOT NULL,
    answered_by TEXT NOT NULL,
    grant_id TEXT NOT NULL,
    until INTEGER NOT NULL,
    created_at INTEGER NOT NULL,
    revision INTEGER NOT NULL,
    mac BLOB NOT NULL
) STRICT;
