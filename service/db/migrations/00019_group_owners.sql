-- +goose Up

-- A group holds devices of one organisation; NULL is for one that was made for all on purpose.
ALTER TABLE groups ADD COLUMN organisation_id uuid REFERENCES organisations;

-- +goose Down
ALTER TABLE groups DROP COLUMN organisation_id;
