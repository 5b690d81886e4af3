-- +goose Up

-- BLAKE3 of a file whose SHA-256 was found right, for devices to compare; null of those that were stored
-- before, which devices compare by SHA-256.
ALTER TABLE contents ADD COLUMN quick text;

-- +goose Down
ALTER TABLE contents DROP COLUMN quick;
