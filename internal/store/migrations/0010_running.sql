-- +goose Up
-- What runs machines on a host, and where it is reached there.
CREATE TABLE running (
    host   TEXT PRIMARY KEY,
    kind   TEXT NOT NULL,
    socket TEXT NOT NULL
) STRICT;

-- +goose Down
DROP TABLE running;
