-- +goose Up
-- Rows of several entries are packed (S2): entries of the same moment say nearly the same. bodies is empty then.
ALTER TABLE entries ADD COLUMN packed BLOB;
