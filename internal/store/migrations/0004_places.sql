-- +goose Up
-- A host other than the service's own computer. login is encrypted.
CREATE TABLE hosts (
    name        TEXT PRIMARY KEY,
    kind        TEXT NOT NULL,
    address     TEXT NOT NULL,
    user        TEXT NOT NULL,
    trusted_key TEXT NOT NULL,
    shown_key   TEXT NOT NULL,
    login       BLOB NOT NULL,
    created     TEXT NOT NULL
) STRICT;

-- A folder is a pool once on each host. What refers to pools is kept aside meanwhile.
CREATE TABLE kept_formats AS SELECT * FROM known_formats;
DROP TABLE known_formats;
CREATE TABLE new_pools (
    name    TEXT PRIMARY KEY,
    host    TEXT NOT NULL,
    folder  TEXT NOT NULL,
    created TEXT NOT NULL,
    rules   TEXT NOT NULL DEFAULT '{}',
    facts   TEXT,
    UNIQUE (host, folder)
) STRICT;
INSERT INTO new_pools (name, host, folder, created) SELECT name, host, folder, created FROM pools;
DROP TABLE pools;
ALTER TABLE new_pools RENAME TO pools;
CREATE TABLE known_formats (
    pool   TEXT NOT NULL REFERENCES pools (name) ON DELETE CASCADE,
    path   TEXT NOT NULL,
    file   TEXT NOT NULL,
    format TEXT NOT NULL,
    PRIMARY KEY (pool, path)
) STRICT;
INSERT INTO known_formats SELECT pool, path, file, format FROM kept_formats;
DROP TABLE kept_formats;

-- What lay in a pool when it was last looked through.
CREATE TABLE disks (
    pool           TEXT NOT NULL REFERENCES pools (name) ON DELETE CASCADE,
    path           TEXT NOT NULL,
    virtual_size   INTEGER NOT NULL,
    allocated_size INTEGER NOT NULL,
    file_size      INTEGER NOT NULL,
    room           INTEGER NOT NULL,
    modified       TEXT NOT NULL,
    broken         INTEGER NOT NULL,
    disk           TEXT NOT NULL,
    PRIMARY KEY (pool, path)
) STRICT, WITHOUT ROWID;
-- Files that a disk stands on.
CREATE TABLE stands (
    pool TEXT NOT NULL,
    path TEXT NOT NULL,
    file TEXT NOT NULL,
    PRIMARY KEY (pool, file, path),
    FOREIGN KEY (pool, path) REFERENCES disks (pool, path) ON DELETE CASCADE
) STRICT, WITHOUT ROWID;
CREATE INDEX stands_by_disk ON stands (pool, path);
CREATE TABLE strays (
    pool TEXT NOT NULL REFERENCES pools (name) ON DELETE CASCADE,
    name TEXT NOT NULL,
    file TEXT NOT NULL,
    PRIMARY KEY (pool, name)
) STRICT, WITHOUT ROWID;
CREATE TABLE scans (
    pool    TEXT PRIMARY KEY REFERENCES pools (name) ON DELETE CASCADE,
    at      TEXT NOT NULL,
    problem TEXT NOT NULL
) STRICT;

-- Jobs that were started together.
CREATE TABLE groups (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    name    TEXT NOT NULL,
    created TEXT NOT NULL,
    refused TEXT NOT NULL
) STRICT;
ALTER TABLE jobs ADD COLUMN group_id INTEGER REFERENCES groups (id);
CREATE INDEX jobs_by_group ON jobs (group_id) WHERE group_id IS NOT NULL;

-- +goose Down
ALTER TABLE jobs DROP COLUMN group_id;
DROP TABLE groups;
DROP TABLE scans;
DROP TABLE strays;
DROP TABLE stands;
DROP TABLE disks;
DROP TABLE hosts;
ALTER TABLE pools DROP COLUMN facts;
ALTER TABLE pools DROP COLUMN rules;
