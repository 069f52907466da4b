-- +goose Up
-- Who runs a job, and until when, unless that is renewed. Each time that it begins to run is an epoch: what comes from an older one is refused.
ALTER TABLE jobs ADD COLUMN epoch INTEGER NOT NULL DEFAULT 0;
ALTER TABLE jobs ADD COLUMN runner TEXT NOT NULL DEFAULT '';
ALTER TABLE jobs ADD COLUMN until TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE jobs DROP COLUMN until;
ALTER TABLE jobs DROP COLUMN runner;
ALTER TABLE jobs DROP COLUMN epoch;
