-- +goose Up
-- Work that is done again and again, as core/routine has it in JSON.
CREATE TABLE routines (
    name    TEXT PRIMARY KEY,
    routine TEXT NOT NULL,
    who     TEXT NOT NULL,
    changed TEXT NOT NULL,
    next    TEXT NOT NULL -- when it is done by itself; empty for never
) STRICT, WITHOUT ROWID;

-- Each time that one was done, or was to be.
CREATE TABLE runs (
    id       INTEGER PRIMARY KEY,
    routine  TEXT NOT NULL REFERENCES routines (name) ON DELETE CASCADE,
    due      TEXT NOT NULL,
    who      TEXT NOT NULL,
    said     TEXT NOT NULL,    -- what blanks are filled with, in JSON
    plan     TEXT NOT NULL,    -- of a group; empty before there is one
    jobs     INTEGER NOT NULL, -- the group that was begun; 0 for none
    over     INTEGER NOT NULL, -- nothing more is to be done to begin it
    problem  TEXT NOT NULL,    -- why it was not begun
    left_out TEXT NOT NULL     -- what was not, in JSON
) STRICT;
CREATE INDEX runs_of ON runs (routine, id);

-- +goose Down
DROP TABLE runs;
DROP TABLE routines;
