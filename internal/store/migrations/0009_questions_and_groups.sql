-- +goose Up
-- What a job asks a person, and the answer, as long as it has not asked anything else.
ALTER TABLE jobs ADD COLUMN question TEXT;
ALTER TABLE jobs ADD COLUMN answer TEXT NOT NULL DEFAULT '';
-- Plans of groups, which are made in the background, and the group that was started with each.
CREATE TABLE group_plans (
    id       TEXT PRIMARY KEY,
    created  TEXT NOT NULL,
    plan     TEXT NOT NULL,
    group_id INTEGER REFERENCES groups (id)
) STRICT;

-- +goose Down
DROP TABLE group_plans;
ALTER TABLE jobs DROP COLUMN answer;
ALTER TABLE jobs DROP COLUMN question;
