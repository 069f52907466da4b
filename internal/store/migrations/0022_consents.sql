-- +goose Up
-- What takes data away for good, that somebody asked for, and that waits for somebody else to agree. what is "plan:ID" or "held:POOL/ID".
CREATE TABLE consents (
    id       TEXT PRIMARY KEY,
    what     TEXT NOT NULL UNIQUE,
    said     TEXT NOT NULL, -- what would be gone, in words
    how      TEXT NOT NULL, -- it was asked for, in JSON
    who      TEXT NOT NULL, -- asked for it: a name, empty for the service's own token
    asked    TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE consents;
