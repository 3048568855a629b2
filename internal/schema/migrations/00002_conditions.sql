-- +goose Up
-- Conditions of grants, as text that internal/core/access parses; empty where there is none.
ALTER TABLE grants ADD COLUMN networks TEXT NOT NULL DEFAULT '';
ALTER TABLE grants ADD COLUMN hours TEXT NOT NULL DEFAULT '';
ALTER TABLE grants ADD COLUMN via TEXT NOT NULL DEFAULT '';
ALTER TABLE grants ADD COLUMN needs_reason INTEGER NOT NULL DEFAULT 0;
