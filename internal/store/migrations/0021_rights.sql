-- +goose Up
-- Where somebody may work, as pool:NAME and host:NAME with spaces between; empty for everywhere.
ALTER TABLE people ADD COLUMN works_on TEXT NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN works_on TEXT NOT NULL DEFAULT '';
ALTER TABLE sessions ADD COLUMN works_on TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE sessions DROP COLUMN works_on;
ALTER TABLE tokens DROP COLUMN works_on;
ALTER TABLE people DROP COLUMN works_on;
