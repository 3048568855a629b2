-- +goose Up
-- What is due in all drawers is found in one range.
CREATE INDEX items_due ON items (served_until) WHERE retired_at = 0 AND shredded_at = 0;
