-- +goose Up

-- When a rollout had a device woken, and shut down again.
ALTER TABLE rollout_devices ADD woken_at timestamptz, ADD shut_at timestamptz;
CREATE INDEX rollout_devices_woken ON rollout_devices (rollout_id) WHERE woken_at IS NOT NULL AND shut_at IS NULL;

-- When the device was started again within the run.
ALTER TABLE runs ADD restarted_at timestamptz;

-- What was last imported of each feed that is mirrored from a folder.
CREATE TABLE mirrored (name text PRIMARY KEY, stamp text NOT NULL);

-- +goose Down
DROP TABLE mirrored;
ALTER TABLE runs DROP restarted_at;
ALTER TABLE rollout_devices DROP woken_at, DROP shut_at;
