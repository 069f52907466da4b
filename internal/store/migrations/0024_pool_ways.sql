-- +goose Up
-- Other ways to a pool: the same storage, as other computers have it.
CREATE TABLE pool_ways (
    pool   TEXT NOT NULL REFERENCES pools (name) ON DELETE CASCADE,
    host   TEXT NOT NULL,
    folder TEXT NOT NULL, -- there
    PRIMARY KEY (pool, host)
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE pool_ways;
