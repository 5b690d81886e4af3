-- +goose Up

-- Consoles that are reached over the network of a device. The password is sealed by the service's key.
CREATE TABLE consoles (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    device_id uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    name text NOT NULL,
    address text NOT NULL,
    secret bytea,
    added_at timestamptz NOT NULL DEFAULT now(),
    added_by text NOT NULL,
    UNIQUE (device_id, name)
);

-- How many days recordings are kept, as the rule said when each began.
ALTER TABLE consent_rules ADD COLUMN keep_days integer NOT NULL DEFAULT 180;
ALTER TABLE recordings ADD COLUMN keep_days integer NOT NULL DEFAULT 180;

-- +goose Down
ALTER TABLE recordings DROP COLUMN keep_days;
ALTER TABLE consent_rules DROP COLUMN keep_days;
DROP TABLE consoles;
