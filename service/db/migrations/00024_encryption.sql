-- +goose Up

-- Recordings and the files of packages are encrypted, each under a key of its own, which stands here sealed. What was
-- there before has none and is as it was; recordings are encrypted at the service's next start.
ALTER TABLE recordings ADD COLUMN key bytea;
ALTER TABLE recording_pieces ALTER COLUMN words TYPE bytea USING convert_to(words, 'UTF8');
ALTER TABLE contents ADD COLUMN key bytea;

-- +goose Down
ALTER TABLE contents DROP COLUMN key;
ALTER TABLE recording_pieces ALTER COLUMN words TYPE text USING convert_from(words, 'UTF8');
ALTER TABLE recordings DROP COLUMN key;
