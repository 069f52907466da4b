-- +goose Up
-- What a job asks a person, and the answer, as long as it has not asked anything else.
ALTER TABLE jobs ADD COLUMN question TEXT;
ALTER TABLE jobs ADD COLUMN answer TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE jobs DROP COLUMN answer;
ALTER TABLE jobs DROP COLUMN question;
