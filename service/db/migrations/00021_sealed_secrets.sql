-- +goose Up

-- Secrets stand sealed here, under a key that the database does not hold; what stands as it is, is sealed at the
-- service's next start.
ALTER TABLE authenticators ADD COLUMN sealed bytea, ALTER COLUMN secret DROP NOT NULL;
ALTER TABLE channels ADD COLUMN sealed bytea, ALTER COLUMN secret DROP NOT NULL;

-- +goose Down
ALTER TABLE authenticators DROP COLUMN sealed;
ALTER TABLE channels DROP COLUMN sealed;
