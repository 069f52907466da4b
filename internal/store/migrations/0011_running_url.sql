-- +goose Up
-- The API of what runs machines on a host, where it is reached by one.
ALTER TABLE running ADD COLUMN url TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE running DROP COLUMN url;
