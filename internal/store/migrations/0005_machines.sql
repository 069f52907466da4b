-- +goose Up
-- Definitions of machines that lay in a pool when it was last looked through.
CREATE TABLE machines (
    pool    TEXT NOT NULL REFERENCES pools (name) ON DELETE CASCADE,
    path    TEXT NOT NULL,
    folder  TEXT NOT NULL,
    name    TEXT NOT NULL,
    machine TEXT NOT NULL,
    PRIMARY KEY (pool, path)
) STRICT, WITHOUT ROWID;
-- Files that they name, with their whole paths on the pool's host.
CREATE TABLE uses (
    pool TEXT NOT NULL,
    path TEXT NOT NULL,
    file TEXT NOT NULL,
    PRIMARY KEY (file, pool, path),
    FOREIGN KEY (pool, path) REFERENCES machines (pool, path) ON DELETE CASCADE
) STRICT, WITHOUT ROWID;
CREATE INDEX uses_by_machine ON uses (pool, path);

-- +goose Down
DROP TABLE uses;
DROP TABLE machines;
