-- +goose Up
-- rank is the order of those that wait. trouble is 1 for a job that paused by itself and goes on by itself. speed is in bytes a
-- second, 0 for no limit; hours such as 22:00-06:00, empty for all. last is the progress as it was when the job ended.
ALTER TABLE jobs ADD COLUMN rank REAL NOT NULL DEFAULT 0;
ALTER TABLE jobs ADD COLUMN trouble INTEGER NOT NULL DEFAULT 0;
ALTER TABLE jobs ADD COLUMN speed INTEGER NOT NULL DEFAULT 0;
ALTER TABLE jobs ADD COLUMN hours TEXT NOT NULL DEFAULT '';
ALTER TABLE jobs ADD COLUMN last TEXT;
UPDATE jobs SET rank = id;
UPDATE jobs SET state = 'failed' WHERE state = 'interrupted';
DROP INDEX jobs_by_state;
CREATE INDEX jobs_by_rank ON jobs (state, rank);

-- How far a job is that has not ended.
CREATE TABLE checkpoints (
    job   INTEGER PRIMARY KEY REFERENCES jobs (id) ON DELETE CASCADE,
    state TEXT NOT NULL
) STRICT;
CREATE TABLE marks (
    number INTEGER PRIMARY KEY AUTOINCREMENT,
    job    INTEGER NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
    stage  TEXT NOT NULL,
    mark   BLOB NOT NULL
) STRICT;
CREATE INDEX marks_by_job ON marks (job, stage, number);

-- Who uses which file: as many readers as there are, or one writer.
CREATE TABLE leases (
    file   TEXT NOT NULL,
    job    INTEGER NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
    writes INTEGER NOT NULL,
    since  TEXT NOT NULL,
    PRIMARY KEY (file, job)
) STRICT, WITHOUT ROWID;
CREATE INDEX leases_by_job ON leases (job);

-- How many jobs may run at once, 0 for as many as there are, and how fast, in bytes a second, 0 for no limit; the row without a name
-- is for all that have none of their own.
CREATE TABLE limits (
    scope TEXT NOT NULL,
    name  TEXT NOT NULL,
    jobs  INTEGER NOT NULL,
    speed INTEGER NOT NULL,
    PRIMARY KEY (scope, name)
) STRICT;

CREATE TABLE events (
    number  INTEGER PRIMARY KEY AUTOINCREMENT,
    at      TEXT NOT NULL,
    who     TEXT NOT NULL,
    origin  TEXT NOT NULL,
    what    TEXT NOT NULL,
    subject TEXT NOT NULL,
    result  TEXT NOT NULL
) STRICT;

-- +goose Down
DROP TABLE events;
DROP TABLE limits;
DROP TABLE leases;
DROP TABLE marks;
DROP TABLE checkpoints;
DROP INDEX jobs_by_rank;
CREATE INDEX jobs_by_state ON jobs (state);
ALTER TABLE jobs DROP COLUMN last;
ALTER TABLE jobs DROP COLUMN hours;
ALTER TABLE jobs DROP COLUMN speed;
ALTER TABLE jobs DROP COLUMN trouble;
ALTER TABLE jobs DROP COLUMN rank;
