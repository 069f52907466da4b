-- +goose Up
-- Computers near storage that work for the service. One that was invited has not joined before it has a key.
CREATE TABLE porters (
    name       TEXT PRIMARY KEY,
    invitation TEXT NOT NULL, -- SHA-256 of what it joins with, empty once it has
    invited    TEXT NOT NULL, -- when
    joined     TEXT NOT NULL, -- when, empty before
    key        TEXT NOT NULL, -- SHA-256 of its public key, as it certifies itself with; empty before it has joined
    secret     TEXT NOT NULL, -- SHA-256 of what it shows to the engine; likewise
    seen       TEXT NOT NULL, -- when it was heard last, empty for never
    said       TEXT NOT NULL, -- of itself, in JSON
    paused     INTEGER NOT NULL -- it is given no more work
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE porters;
