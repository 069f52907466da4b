-- +goose Up
-- Receipts as they were signed, each with the digest of the one before.
CREATE TABLE seals (
    number INTEGER PRIMARY KEY,
    job    INTEGER NOT NULL REFERENCES jobs (id),
    seal   TEXT NOT NULL
) STRICT;

-- +goose Down
DROP TABLE seals;
