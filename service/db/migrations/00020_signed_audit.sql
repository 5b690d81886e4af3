-- +goose Up

-- Identities beside names, which may come to be somebody else's; and each entry signed by the service's key, so that
-- who can write to this table cannot write what was never recorded.
ALTER TABLE audit ADD COLUMN actor_id text NOT NULL DEFAULT '', ADD COLUMN via_id text NOT NULL DEFAULT '',
    ADD COLUMN signature bytea NOT NULL DEFAULT '', ADD COLUMN key_id text NOT NULL DEFAULT '';

-- The public halves of the keys that signed, by which entries can be verified after another key is used.
CREATE TABLE audit_keys (
    id         text PRIMARY KEY,
    public_key bytea NOT NULL,
    since      timestamptz NOT NULL
);

-- +goose Down
DROP TABLE audit_keys;
ALTER TABLE audit DROP COLUMN actor_id, DROP COLUMN via_id, DROP COLUMN signature, DROP COLUMN key_id;
