-- +goose Up

-- What a device had too much of, and when: it is told to people by a check.
ALTER TABLE devices ADD COLUMN exceeded_at timestamptz, ADD COLUMN exceeded text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE devices DROP COLUMN exceeded_at, DROP COLUMN exceeded;
