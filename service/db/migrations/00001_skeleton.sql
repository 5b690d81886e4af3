-- +goose Up
CREATE TABLE organisations (
    id   uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    name text NOT NULL UNIQUE
);

CREATE TABLE sites (
    id              uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    organisation_id uuid NOT NULL REFERENCES organisations,
    name            text NOT NULL,
    UNIQUE (organisation_id, name)
);

CREATE TABLE enrolment_tokens (
    id         uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    hash       bytea NOT NULL UNIQUE,
    site_id    uuid NOT NULL REFERENCES sites,
    uses       int NOT NULL,
    used       int NOT NULL DEFAULT 0,
    expires_at timestamptz NOT NULL,
    created_at timestamptz NOT NULL,
    created_by text NOT NULL,
    revoked_at timestamptz,
    CHECK (used <= uses)
);

CREATE TABLE devices (
    id             uuid PRIMARY KEY,
    site_id        uuid NOT NULL REFERENCES sites,
    name           text NOT NULL,
    public_key     bytea NOT NULL UNIQUE,
    enrolled_at    timestamptz NOT NULL,
    retired_at     timestamptz,
    -- what it is, at its last connection; the columns are what the list shows
    facts          jsonb,
    os             text NOT NULL DEFAULT '',
    os_name        text NOT NULL DEFAULT '',
    os_version     text NOT NULL DEFAULT '',
    arch           text NOT NULL DEFAULT '',
    model          text NOT NULL DEFAULT '',
    serial         text NOT NULL DEFAULT '',
    addresses      text[] NOT NULL DEFAULT '{}',
    capabilities   text[] NOT NULL DEFAULT '{}',
    agent_version  text NOT NULL DEFAULT '',
    cores          int NOT NULL DEFAULT 0,
    memory_bytes   bigint NOT NULL DEFAULT 0,
    -- presence
    online         boolean NOT NULL DEFAULT false,
    presence_since timestamptz NOT NULL,
    last_heard     timestamptz,
    conflict_at    timestamptz,
    -- its last reading
    vitals         jsonb,
    skew           interval NOT NULL DEFAULT '0',
    people         text[] NOT NULL DEFAULT '{}',
    cpu            real,
    memory         real,
    disk           real,
    condition      text NOT NULL DEFAULT 'silent',
    -- the spool that reports come from, and how far they are stored
    report_epoch   text NOT NULL DEFAULT '',
    report_seq     bigint NOT NULL DEFAULT 0
);
CREATE INDEX devices_by_name ON devices (name, id) WHERE retired_at IS NULL;
CREATE INDEX devices_by_lower_name ON devices (lower(name)) WHERE retired_at IS NULL;

CREATE TABLE findings (
    device_id  uuid NOT NULL REFERENCES devices,
    check_name text NOT NULL,
    subject    text NOT NULL,
    level      text NOT NULL,
    message    text NOT NULL,
    since      timestamptz NOT NULL,
    PRIMARY KEY (device_id, check_name, subject)
);

CREATE TABLE vitals (
    device_id   uuid NOT NULL,
    at          timestamptz NOT NULL,
    cpu         real NOT NULL,
    memory      real NOT NULL,
    disk        real,
    load1       real NOT NULL,
    receive     real NOT NULL,
    transmit    real NOT NULL,
    temperature real
);
CREATE INDEX vitals_by_device ON vitals (device_id, at);
CREATE INDEX vitals_by_time ON vitals USING brin (at);

CREATE TABLE people (
    id            uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    email         text NOT NULL UNIQUE CHECK (email = lower(email)),
    name          text NOT NULL,
    role          text NOT NULL,
    password_hash text,
    created_at    timestamptz NOT NULL
);

CREATE TABLE set_up_links (
    hash       bytea PRIMARY KEY,
    person_id  uuid NOT NULL REFERENCES people,
    expires_at timestamptz NOT NULL
);

CREATE TABLE sessions (
    hash       bytea PRIMARY KEY,
    person_id  uuid NOT NULL REFERENCES people,
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    address    text NOT NULL
);

CREATE TABLE api_tokens (
    id           uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    person_id    uuid NOT NULL REFERENCES people,
    name         text NOT NULL,
    hash         bytea NOT NULL UNIQUE,
    created_at   timestamptz NOT NULL,
    expires_at   timestamptz NOT NULL,
    last_used_at timestamptz,
    revoked_at   timestamptz
);

CREATE TABLE sign_in_failures (
    subject text NOT NULL, -- an account or an address
    at      timestamptz NOT NULL
);
CREATE INDEX sign_in_failures_by_subject ON sign_in_failures (subject, at);

CREATE TABLE audit (
    seq         bigint PRIMARY KEY,
    at          timestamptz NOT NULL,
    actor       text NOT NULL,
    via         text NOT NULL,
    action      text NOT NULL,
    device      text NOT NULL,
    device_name text NOT NULL,
    detail      text NOT NULL,
    address     text NOT NULL,
    result      text NOT NULL,
    hash        bytea NOT NULL
);
CREATE INDEX audit_by_device ON audit (device, seq);

-- +goose StatementBegin
CREATE FUNCTION audit_is_append_only() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the audit log is append-only';
END $$;
-- +goose StatementEnd
CREATE TRIGGER audit_append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON audit
    FOR EACH STATEMENT EXECUTE FUNCTION audit_is_append_only();

-- What the service must remember of itself, such as the audience of its devices' proofs.
CREATE TABLE service (
    name  text PRIMARY KEY,
    value text NOT NULL
);
INSERT INTO service VALUES ('audience', gen_random_uuid()::text);

-- +goose Down
DROP TABLE service, audit, sign_in_failures, api_tokens, sessions, set_up_links, people, vitals,
    findings, devices, enrolment_tokens, sites, organisations;
DROP FUNCTION audit_is_append_only;
