-- +goose Up
CREATE TABLE settings (
    name  TEXT PRIMARY KEY,
    value TEXT NOT NULL
) STRICT;

CREATE TABLE pools (
    name    TEXT PRIMARY KEY,
    host    TEXT NOT NULL,
    folder  TEXT NOT NULL UNIQUE,
    created TEXT NOT NULL
) STRICT;

-- What format a file is known to have, whatever a guest writes into it. file is its identity: another file under the same
-- name is not known.
CREATE TABLE known_formats (
    pool   TEXT NOT NULL REFERENCES pools (name) ON DELETE CASCADE,
    path   TEXT NOT NULL,
    file   TEXT NOT NULL,
    format TEXT NOT NULL,
    PRIMARY KEY (pool, path)
) STRICT;

CREATE TABLE plans (
    id      TEXT PRIMARY KEY,
    created TEXT NOT NULL,
    request TEXT NOT NULL
) STRICT;

CREATE TABLE jobs (
    id        INTEGER PRIMARY KEY AUTOINCREMENT,
    state     TEXT NOT NULL,
    plan      TEXT NOT NULL,
    created   TEXT NOT NULL,
    started   TEXT,
    finished  TEXT,
    outcome   TEXT,
    reason    TEXT NOT NULL DEFAULT '',
    receipt   TEXT,
    -- 1 as long as something of the job may lie in a staging folder
    uncleared INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX jobs_by_state ON jobs (state);

CREATE TABLE steps (
    job      INTEGER NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
    number   INTEGER NOT NULL,
    name     TEXT NOT NULL,
    title    TEXT NOT NULL,
    started  TEXT,
    finished TEXT,
    bytes    INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (job, number)
) STRICT;

CREATE TABLE sessions (
    hash    TEXT PRIMARY KEY,
    expires TEXT NOT NULL
) STRICT;

-- +goose Down
DROP TABLE sessions;
DROP TABLE steps;
DROP TABLE jobs;
DROP TABLE plans;
DROP TABLE known_formats;
DROP TABLE pools;
DROP TABLE settings;
