-- +goose Up
-- The networks of one host that were last chosen for those of another, when a machine went from it there.
CREATE TABLE network_choices (
    from_host TEXT NOT NULL,
    to_host   TEXT NOT NULL,
    old       TEXT NOT NULL,
    new       TEXT NOT NULL,
    PRIMARY KEY (from_host, to_host, old)
) STRICT;

-- +goose Down
DROP TABLE network_choices;
