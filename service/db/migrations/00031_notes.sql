-- +goose Up
-- What people call a device, and what they note about it.
ALTER TABLE devices ADD COLUMN alias text, ADD COLUMN note text;

-- +goose Down
ALTER TABLE devices DROP COLUMN alias, DROP COLUMN note;
