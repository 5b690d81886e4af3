-- +goose Up

-- How current the devices of an organisation were on a day, by the ring of the last rollout that they were in.
CREATE TABLE compliance (
    day date NOT NULL,
    organisation_id uuid NOT NULL REFERENCES organisations ON DELETE CASCADE,
    ring text NOT NULL, -- its name; '' for devices that were in no rollout
    tally jsonb NOT NULL,
    PRIMARY KEY (day, organisation_id, ring)
);

-- Reports that are sent by e-mail.
CREATE TABLE report_schedules (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    name text NOT NULL UNIQUE,
    organisation_id uuid REFERENCES organisations ON DELETE CASCADE, -- NULL for all
    content jsonb NOT NULL,
    next_at timestamptz,
    sent_at timestamptz,
    trouble text NOT NULL DEFAULT '',
    tries int NOT NULL DEFAULT 0, -- that failed since it was due
    changed_at timestamptz NOT NULL DEFAULT now(),
    changed_by text NOT NULL
);
CREATE INDEX report_schedules_next ON report_schedules (next_at);

-- +goose Down
DROP TABLE report_schedules, compliance;
