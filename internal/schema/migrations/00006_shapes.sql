-- +goose Up
-- What the fields of an item are, and what is known of those of a version without their values: "user:3:plain password:24".
ALTER TABLE items ADD COLUMN shape TEXT NOT NULL DEFAULT '';
ALTER TABLE versions ADD COLUMN fields TEXT NOT NULL DEFAULT '';
