-- +goose Up

-- The library of scripts and packages, and what each was before.
CREATE TABLE scripts (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    name text NOT NULL,
    version integer NOT NULL DEFAULT 1,
    content jsonb NOT NULL,
    changed_at timestamptz NOT NULL DEFAULT now(),
    changed_by text NOT NULL,
    removed_at timestamptz
);
CREATE UNIQUE INDEX scripts_name ON scripts (name) WHERE removed_at IS NULL;

CREATE TABLE script_versions (
    script_id uuid NOT NULL REFERENCES scripts,
    version integer NOT NULL,
    content jsonb NOT NULL,
    changed_at timestamptz NOT NULL,
    changed_by text NOT NULL,
    PRIMARY KEY (script_id, version)
);

CREATE TABLE packages (
    id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    name text NOT NULL,
    version integer NOT NULL DEFAULT 1,
    content jsonb NOT NULL,
    changed_at timestamptz NOT NULL DEFAULT now(),
    changed_by text NOT NULL,
    removed_at timestamptz
);
CREATE UNIQUE INDEX packages_name ON packages (name) WHERE removed_at IS NULL;

CREATE TABLE package_versions (
    package_id uuid NOT NULL REFERENCES packages,
    version integer NOT NULL,
    content jsonb NOT NULL,
    changed_at timestamptz NOT NULL,
    changed_by text NOT NULL,
    PRIMARY KEY (package_id, version)
);

-- A job is one piece of work on many devices, as it was when the job was begun; a run is a job at one
-- device, at one of its turns where it has several.
CREATE TABLE jobs (
    id uuid PRIMARY KEY,
    name text NOT NULL,
    work jsonb NOT NULL,
    script_id uuid REFERENCES scripts,
    package_id uuid REFERENCES packages,
    values jsonb NOT NULL,
    secrets bytea,
    limits jsonb NOT NULL,
    whens jsonb NOT NULL DEFAULT '{}',
    target jsonb NOT NULL DEFAULT '{}',
    origin text NOT NULL DEFAULT 'person',
    state text NOT NULL,
    reason text NOT NULL DEFAULT '',
    begin_at timestamptz NOT NULL,
    deadline timestamptz NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    created_by text NOT NULL,
    ended_at timestamptz
);
CREATE INDEX jobs_created ON jobs (created_at DESC, id DESC);
CREATE INDEX jobs_open ON jobs (id) WHERE ended_at IS NULL;

CREATE TABLE runs (
    id uuid PRIMARY KEY,
    job_id uuid NOT NULL REFERENCES jobs ON DELETE CASCADE,
    device_id uuid NOT NULL,
    device_name text NOT NULL,
    site text NOT NULL,
    place real NOT NULL,
    turn text NOT NULL DEFAULT '',
    due_at timestamptz NOT NULL DEFAULT now(),
    until timestamptz NOT NULL,
    state text NOT NULL,
    journal text NOT NULL DEFAULT '',
    sent_at timestamptz,
    began_at timestamptz,
    ended_at timestamptz,
    exit integer,
    head bytea NOT NULL DEFAULT '',
    tail bytea NOT NULL DEFAULT '',
    dropped bigint NOT NULL DEFAULT 0,
    reason text NOT NULL DEFAULT '',
    UNIQUE (job_id, device_id, turn)
);
CREATE INDEX runs_state ON runs (job_id, state);
CREATE INDEX runs_device ON runs (device_id, due_at DESC);

-- Files of packages, by their digest; the bytes lie in the service's data folder.
CREATE TABLE contents (
    sha256 text PRIMARY KEY,
    name text NOT NULL,
    size bigint NOT NULL,
    whole boolean NOT NULL DEFAULT false,
    added_at timestamptz NOT NULL DEFAULT now(),
    added_by text NOT NULL
);

-- +goose Down
DROP TABLE contents;
DROP TABLE runs;
DROP TABLE jobs;
DROP TABLE package_versions;
DROP TABLE packages;
DROP TABLE script_versions;
DROP TABLE scripts;
