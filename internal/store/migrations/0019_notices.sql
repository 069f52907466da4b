-- +goose Up
-- Who is told what happens: the kinds are a list in JSON, the secret is encrypted.
CREATE TABLE channels (
    name    TEXT PRIMARY KEY,
    kind    TEXT NOT NULL, -- web, mail or program
    target  TEXT NOT NULL, -- JSON
    secret  BLOB NOT NULL,
    tells   TEXT NOT NULL,
    created TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- What was told already, and until when it was seen to be so.
CREATE TABLE told (
    what TEXT PRIMARY KEY,
    seen TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- What is to be told, was, or could not be.
CREATE TABLE notices (
    number  INTEGER PRIMARY KEY,
    id      TEXT NOT NULL UNIQUE,
    channel TEXT NOT NULL REFERENCES channels (name) ON DELETE CASCADE,
    message TEXT NOT NULL,
    created TEXT NOT NULL,
    tries   INTEGER NOT NULL,
    next    TEXT NOT NULL, -- when it is tried; empty for one that is not any more
    problem TEXT NOT NULL  -- of the last try; empty for none
) STRICT;
CREATE INDEX notices_waiting ON notices (channel, number) WHERE next <> '';

-- +goose Down
DROP TABLE notices;
DROP TABLE told;
DROP TABLE channels;
