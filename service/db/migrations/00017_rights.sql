-- +goose Up

-- A token may be narrower than its owner; NULL is no bound.
ALTER TABLE api_tokens ADD COLUMN permissions text[], ADD COLUMN scope_kind text, ADD COLUMN scope_id text;

-- Who answers for work that goes on: what they may do no longer waits until somebody adopts it. NULL is for
-- what policies began, and for what began before people were noted by their number.
ALTER TABLE jobs ADD COLUMN owner_id uuid REFERENCES people, ADD COLUMN adopted_by text;
UPDATE jobs j SET owner_id = (SELECT p.id FROM people p WHERE p.email = j.created_by AND p.removed_at IS NULL) WHERE j.origin IN ('person', 'rollout');
ALTER TABLE rollouts ADD COLUMN owner_id uuid REFERENCES people, ADD COLUMN adopted_by text;
UPDATE rollouts r SET owner_id = (SELECT p.id FROM people p WHERE p.email = r.begun_by AND p.removed_at IS NULL);
ALTER TABLE report_schedules ADD COLUMN owner_id uuid REFERENCES people;
UPDATE report_schedules r SET owner_id = (SELECT p.id FROM people p WHERE p.email = r.changed_by AND p.removed_at IS NULL);

-- +goose Down
ALTER TABLE report_schedules DROP COLUMN owner_id;
ALTER TABLE rollouts DROP COLUMN owner_id, DROP COLUMN adopted_by;
ALTER TABLE jobs DROP COLUMN owner_id, DROP COLUMN adopted_by;
ALTER TABLE api_tokens DROP COLUMN permissions, DROP COLUMN scope_kind, DROP COLUMN scope_id;
