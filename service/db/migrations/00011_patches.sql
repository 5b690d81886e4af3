-- +goose Up

-- Updates that some device is or was offered, as a source names them.
CREATE TABLE updates (
    id serial PRIMARY KEY,
    source text NOT NULL,
    name text NOT NULL,
    to_version text NOT NULL,
    content jsonb NOT NULL,
    first_seen timestamptz NOT NULL DEFAULT now(),
    UNIQUE (source, name, to_version)
);

-- What each device is offered and has not, as it told last: one row a device, as all of the fleet's are read
-- at once.
CREATE TABLE missing (
    device_id uuid PRIMARY KEY REFERENCES devices ON DELETE CASCADE,
    digest text NOT NULL,
    trouble text NOT NULL,
    told_at timestamptz NOT NULL,
    updates int[] NOT NULL DEFAULT '{}',
    blocked int[] NOT NULL DEFAULT '{}', -- of them
    details jsonb NOT NULL DEFAULT '{}'  -- by update: the version that it has, and why it is blocked
);

-- Rules that approve, hold or exclude updates.
CREATE TABLE approvals (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    rule jsonb NOT NULL,
    changed_at timestamptz NOT NULL DEFAULT now(),
    changed_by text NOT NULL
);
CREATE UNIQUE INDEX approvals_name ON approvals ((rule->>'name'));

CREATE TABLE rollouts (
    id uuid PRIMARY KEY,
    spec jsonb NOT NULL,
    state jsonb NOT NULL,
    target jsonb NOT NULL,
    begun_at timestamptz NOT NULL DEFAULT now(),
    begun_by text NOT NULL,
    ended_at timestamptz
);

-- The devices of a rollout, and how far each has come.
CREATE TABLE rollout_devices (
    rollout_id uuid NOT NULL REFERENCES rollouts,
    device_id uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    ring int NOT NULL,
    state text NOT NULL DEFAULT 'planned',
    reason text NOT NULL DEFAULT '',
    job_id uuid,
    began_at timestamptz,
    ended_at timestamptz,
    PRIMARY KEY (rollout_id, device_id)
);
CREATE INDEX rollout_devices_open ON rollout_devices (rollout_id) WHERE job_id IS NOT NULL AND state IN ('planned', 'running', 'reverting');
CREATE INDEX rollout_devices_device ON rollout_devices (device_id);

-- What rollouts installed at devices, or were to.
CREATE TABLE patched (
    rollout_id uuid NOT NULL REFERENCES rollouts,
    device_id uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    job_id uuid NOT NULL,
    source text NOT NULL,
    name text NOT NULL,
    from_version text NOT NULL,
    to_version text NOT NULL,
    state text NOT NULL,
    reason text NOT NULL DEFAULT '',
    at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (job_id, device_id, source, name)
);
CREATE INDEX patched_device ON patched (device_id, at DESC);
CREATE INDEX patched_rollout ON patched (rollout_id);

-- +goose Down
DROP TABLE patched, rollout_devices, rollouts, approvals, missing, updates;
