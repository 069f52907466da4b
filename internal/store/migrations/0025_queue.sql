-- +goose Up
-- The pools that a job works in, with spaces between them, so that those of a pool that has enough to do are passed over without reading them. Empty for older jobs, which are read.
ALTER TABLE jobs ADD COLUMN pools TEXT NOT NULL DEFAULT '';
DROP INDEX jobs_by_rank;
CREATE INDEX jobs_by_rank ON jobs (state, rank, pools);

-- +goose Down
DROP INDEX jobs_by_rank;
CREATE INDEX jobs_by_rank ON jobs (state, rank);
ALTER TABLE jobs DROP COLUMN pools;
