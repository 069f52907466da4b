-- +goose Up
-- What people call disks that have no tag which could say so. file is its identity: another file under the same name is not called so.
CREATE TABLE called (
    pool   TEXT NOT NULL REFERENCES pools (name) ON DELETE CASCADE,
    path   TEXT NOT NULL,
    file   TEXT NOT NULL,
    called TEXT NOT NULL,
    note   TEXT NOT NULL,
    PRIMARY KEY (pool, path)
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE called;
