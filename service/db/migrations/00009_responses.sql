-- +goose Up

ALTER TABLE policies ADD COLUMN responses jsonb NOT NULL DEFAULT '[]', ADD COLUMN agent jsonb NOT NULL DEFAULT '{}';

-- What policies did by themselves when checks failed: one row each time.
CREATE TABLE responses (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    device_id uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    check_name text NOT NULL,
    subject text NOT NULL,
    policy_id text NOT NULL,
    policy_name text NOT NULL,
    name text NOT NULL,
    course jsonb NOT NULL,
    state text NOT NULL,
    due timestamptz,
    job_id uuid,
    began_at timestamptz NOT NULL,
    ended_at timestamptz
);
CREATE INDEX responses_device ON responses (device_id, began_at DESC);
CREATE INDEX responses_open ON responses (state) WHERE ended_at IS NULL;
CREATE INDEX responses_policy ON responses (policy_id, began_at DESC);
CREATE INDEX responses_job ON responses (job_id) WHERE ended_at IS NULL;

-- +goose Down
DROP TABLE responses;
ALTER TABLE policies DROP COLUMN responses, DROP COLUMN agent;
