-- +goose Up
-- How many jobs of a group run at once, and how many may fail before the others wait; 0 for as many as there are.
ALTER TABLE groups ADD COLUMN at_once INTEGER NOT NULL DEFAULT 0;
ALTER TABLE groups ADD COLUMN stop_after INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE groups DROP COLUMN at_once;
ALTER TABLE groups DROP COLUMN stop_after;
