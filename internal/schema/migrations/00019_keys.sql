-- +goose Up

-- Keys: items whose value is used in the chest. The columns are empty for secrets.
ALTER TABLE items ADD COLUMN key_type TEXT NOT NULL DEFAULT '';
ALTER TABLE items ADD COLUMN key_ops TEXT NOT NULL DEFAULT '';
ALTER TABLE items ADD COLUMN given_out INTEGER NOT NULL DEFAULT 0;
ALTER TABLE items ADD COLUMN decrypt_from INTEGER NOT NULL DEFAULT 0;
ALTER TABLE versions ADD COLUMN public_key TEXT NOT NULL DEFAULT '';

-- Keys of a drawer are found by themselves, to publish their public halves; and whether strangers get those.
CREATE INDEX items_keys ON items (drawer, name) WHERE key_type <> '';
ALTER TABLE drawers ADD COLUMN keys_open INTEGER NOT NULL DEFAULT 0;
