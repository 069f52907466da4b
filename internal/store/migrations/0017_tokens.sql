-- +goose Up
-- What lets people and programs in besides the service's own token: the SHA-256 of each secret.
CREATE TABLE tokens (
    name    TEXT PRIMARY KEY,
    hash    TEXT NOT NULL UNIQUE,
    role    TEXT NOT NULL,
    created TEXT NOT NULL,
    expires TEXT NOT NULL, -- empty for one that does not
    used    TEXT NOT NULL  -- empty for one that never was
) STRICT, WITHOUT ROWID;

-- Whose a session is: the name of a token, empty for that of the service, and its role.
ALTER TABLE sessions ADD COLUMN who TEXT NOT NULL DEFAULT '';
ALTER TABLE sessions ADD COLUMN role TEXT NOT NULL DEFAULT 'admin';

-- +goose Down
ALTER TABLE sessions DROP COLUMN role;
ALTER TABLE sessions DROP COLUMN who;
DROP TABLE tokens;
