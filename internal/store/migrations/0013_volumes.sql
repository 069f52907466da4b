-- +goose Up
-- Which volumes of a host are the disks of a pool; empty where they are files in its folder.
ALTER TABLE pools ADD COLUMN volumes TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE pools DROP COLUMN volumes;
