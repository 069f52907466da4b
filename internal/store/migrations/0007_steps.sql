-- +goose Up
-- Steps have IDs in their plan, and the journal of a job speaks of those. Jobs that are half done go on.
UPDATE marks SET stage = CASE stage WHEN 'write' THEN 'disk1.fill' ELSE 'disk1.' || stage END WHERE stage NOT LIKE 'disk1.%';
UPDATE checkpoints SET state = json_set(json_remove(state, '$.stage'),
    '$.step', 'disk1.' || CASE json_extract(state, '$.stage')
        WHEN 'write' THEN 'fill'
        WHEN 'place' THEN (SELECT iif(json_extract(plan, '$.renames'), 'rename', 'publish') FROM jobs WHERE jobs.id = checkpoints.job)
        ELSE json_extract(state, '$.stage') END,
    '$.done', json(CASE json_extract(state, '$.stage')
        WHEN 'write' THEN '["disk1.look"]'
        WHEN 'prove' THEN '["disk1.look","disk1.fill"]'
        WHEN 'place' THEN '["disk1.look","disk1.fill","disk1.prove"]'
        ELSE '["disk1.look","disk1.fill","disk1.prove","disk1.publish","disk1.rename"]' END))
    WHERE json_extract(state, '$.stage') IS NOT NULL;
UPDATE steps SET name = CASE name WHEN 'write' THEN 'fill' WHEN 'place' THEN 'publish' ELSE name END WHERE name IN ('write', 'place');
-- The journal of a job that is done, by which it can be taken back.
ALTER TABLE jobs ADD COLUMN journal TEXT;
-- Plans are kept as they were shown, with the job that was started with them. They are made for now: those of before are dropped.
DROP TABLE plans;
CREATE TABLE plans (
    id      TEXT PRIMARY KEY,
    created TEXT NOT NULL,
    plan    TEXT NOT NULL,
    job     INTEGER
) STRICT;

-- +goose Down
DROP TABLE plans;
CREATE TABLE plans (
    id      TEXT PRIMARY KEY,
    created TEXT NOT NULL,
    request TEXT NOT NULL
) STRICT;
ALTER TABLE jobs DROP COLUMN journal;
