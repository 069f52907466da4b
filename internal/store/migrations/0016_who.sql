-- +goose Up
-- Who asked for a job, empty where that was not kept.
ALTER TABLE jobs ADD COLUMN who TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE jobs DROP COLUMN who;
