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

-- +goose Down
ALTER TABLE jobs DROP COLUMN journal;
