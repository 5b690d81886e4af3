-- +goose Up

-- A recording is of a shell or of a screen; of a screen, shell is the id of the connection. Each of its
-- pieces has its link in the chain over them, signed, and so has its end.
ALTER TABLE recordings ADD COLUMN kind text NOT NULL DEFAULT 'shell', ADD COLUMN end_signature bytea;
ALTER TABLE recording_pieces ADD COLUMN link bytea, ADD COLUMN signature bytea;

-- Whether what is done with a tool is not recorded.
ALTER TABLE consent_rules ADD COLUMN unrecorded boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE consent_rules DROP COLUMN unrecorded;
ALTER TABLE recording_pieces DROP COLUMN link, DROP COLUMN signature;
ALTER TABLE recordings DROP COLUMN kind, DROP COLUMN end_signature;
