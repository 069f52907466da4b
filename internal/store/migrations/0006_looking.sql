-- +goose Up
-- What a look through a pool saw as a whole, when it began, and what it could not look at (JSON).
ALTER TABLE scans ADD COLUMN began TEXT NOT NULL DEFAULT '';
ALTER TABLE scans ADD COLUMN disks INTEGER NOT NULL DEFAULT 0;
ALTER TABLE scans ADD COLUMN room INTEGER NOT NULL DEFAULT 0;
ALTER TABLE scans ADD COLUMN strays INTEGER NOT NULL DEFAULT 0;
ALTER TABLE scans ADD COLUMN missed TEXT NOT NULL DEFAULT '[]';
UPDATE scans SET began = at;
-- Counting and sorting read this alone, and not what is known of each disk.
CREATE INDEX disks_in_short ON disks (pool, path, virtual_size, allocated_size, file_size, room, modified, broken);
CREATE INDEX machines_by_folder ON machines (pool, folder);

-- The check (JSON) that made a job pause.
ALTER TABLE jobs ADD COLUMN stopped_by TEXT;

-- +goose Down
ALTER TABLE jobs DROP COLUMN stopped_by;
DROP INDEX machines_by_folder;
DROP INDEX disks_in_short;
ALTER TABLE scans DROP COLUMN missed;
ALTER TABLE scans DROP COLUMN strays;
ALTER TABLE scans DROP COLUMN room;
ALTER TABLE scans DROP COLUMN disks;
ALTER TABLE scans DROP COLUMN began;
