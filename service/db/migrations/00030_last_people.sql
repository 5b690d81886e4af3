-- +goose Up
-- Who is signed in at a device or, where nobody is, who was last, and when it last told so.
ALTER TABLE devices ADD COLUMN last_people text[] NOT NULL DEFAULT '{}', ADD COLUMN last_people_at timestamptz;
UPDATE devices SET last_people = people, last_people_at = last_heard WHERE people <> '{}';

-- +goose Down
ALTER TABLE devices DROP COLUMN last_people, DROP COLUMN last_people_at;
