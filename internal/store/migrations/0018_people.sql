-- +goose Up
-- Who signs in by name and password: the password as Argon2id, in the usual text form with its parameters. No token has the name of one of them.
CREATE TABLE people (
    name     TEXT PRIMARY KEY,
    role     TEXT NOT NULL,
    password TEXT NOT NULL,
    created  TEXT NOT NULL,
    used     TEXT NOT NULL -- empty for one who never signed in
) STRICT, WITHOUT ROWID;

-- What is told of a session, which its secret is not needed for.
ALTER TABLE sessions ADD COLUMN id TEXT NOT NULL DEFAULT '';
ALTER TABLE sessions ADD COLUMN begun TEXT NOT NULL DEFAULT '';
ALTER TABLE sessions ADD COLUMN origin TEXT NOT NULL DEFAULT '';
-- Those that were begun before have none of it: whoever has them opens a new one.
DELETE FROM sessions;

-- +goose Down
ALTER TABLE sessions DROP COLUMN origin;
ALTER TABLE sessions DROP COLUMN begun;
ALTER TABLE sessions DROP COLUMN id;
DROP TABLE people;
