-- +goose Up

-- What a device's parts call themselves (core/device, hardware.go), and which device goes on in its place.
ALTER TABLE devices ADD hardware text[] NOT NULL DEFAULT '{}', ADD successor_id uuid REFERENCES devices;
CREATE INDEX devices_hardware ON devices USING gin (hardware) WHERE retired_at IS NULL;

-- Whether a computer is the device that it seems to be, as a technician is asked.
CREATE TABLE identity_questions (
    id          uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    kind        text NOT NULL CHECK (kind IN ('copied', 'returned')),
    -- whose identity was shown by another computer; or who was enrolled on an older device's hardware
    device_id   uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    older_id    uuid REFERENCES devices ON DELETE CASCADE,
    host_name   text NOT NULL,
    address     text NOT NULL,
    hardware    text[] NOT NULL,
    asked_at    timestamptz NOT NULL DEFAULT now(),
    seen_at     timestamptz NOT NULL DEFAULT now(),
    same        boolean, -- the answer
    answered_at timestamptz,
    answered_by text NOT NULL DEFAULT '',
    UNIQUE (kind, device_id, hardware)
);
CREATE INDEX identity_questions_open ON identity_questions (device_id) WHERE answered_at IS NULL;

-- +goose Down
DROP TABLE identity_questions;
ALTER TABLE devices DROP successor_id, DROP hardware;
