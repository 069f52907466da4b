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

-- +goose Down
DROP TABLE hosts;
ALTER TABLE pools DROP COLUMN facts;
ALTER TABLE pools DROP COLUMN rules;
