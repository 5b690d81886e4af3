-- +goose Up

-- Readings. What was read lately is a row a report; what is older lies in compressed chunks.
CREATE TABLE layouts (
    id     serial PRIMARY KEY,
    digest bytea NOT NULL UNIQUE,
    names  text[] NOT NULL -- of the samples, in their order
);
CREATE TABLE readings (
    device_id uuid NOT NULL,
    at        timestamptz NOT NULL,
    layout    int NOT NULL,
    samples   bytea NOT NULL -- a signed varint of quantum steps for each name of the layout
);
CREATE INDEX readings_by_device ON readings (device_id, at);
CREATE INDEX readings_by_time ON readings USING brin (at);
CREATE TABLE chunks (
    device_id uuid NOT NULL,
    tier      smallint NOT NULL, -- of core/series
    start     timestamptz NOT NULL,
    data      bytea NOT NULL,
    PRIMARY KEY (device_id, tier, start)
);
ALTER TABLE chunks ALTER COLUMN data SET STORAGE EXTERNAL; -- it is compressed already
DROP TABLE vitals;

ALTER TABLE devices
    ADD COLUMN trends jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN safety jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN inventory_digest text NOT NULL DEFAULT '',
    ADD COLUMN inventory_at timestamptz;

ALTER TABLE findings
    ADD COLUMN pending boolean NOT NULL DEFAULT false,
    ADD COLUMN rising text NOT NULL DEFAULT '',
    ADD COLUMN rising_since timestamptz,
    ADD COLUMN due timestamptz; -- when the passing of time alone changes it
CREATE INDEX findings_due ON findings (due) WHERE due IS NOT NULL;

CREATE TABLE policies (
    id         uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    name       text NOT NULL UNIQUE,
    scope_kind text NOT NULL,
    scope_id   text NOT NULL,
    settings   jsonb NOT NULL,
    changed_at timestamptz NOT NULL,
    changed_by text NOT NULL
);

CREATE TABLE maintenance_windows (
    id         uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    name       text NOT NULL UNIQUE,
    scope_kind text NOT NULL,
    scope_id   text NOT NULL,
    span       jsonb NOT NULL, -- of core/calendar
    changed_at timestamptz NOT NULL,
    changed_by text NOT NULL
);

-- An alert is about a device, or about a site: then device_id is null.
CREATE TABLE alerts (
    id            uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    device_id     uuid REFERENCES devices,
    site_id       uuid NOT NULL REFERENCES sites,
    parent_id     uuid REFERENCES alerts, -- the alert of its site, of which it is a part
    check_name    text NOT NULL,
    subject       text NOT NULL,
    level         text NOT NULL,
    message       text NOT NULL,
    state         text NOT NULL,
    since         timestamptz NOT NULL,
    opened_at     timestamptz NOT NULL,
    resolved_at   timestamptz,
    by_person     boolean NOT NULL DEFAULT false,
    snoozed_until timestamptz,
    flaps         int NOT NULL DEFAULT 0,
    quiet_since   timestamptz,
    muted_until   timestamptz,
    assignee_id   uuid REFERENCES people,
    escalated     boolean NOT NULL DEFAULT false,
    suspect       jsonb, -- the first, as last computed
    due           timestamptz
);
CREATE UNIQUE INDEX alerts_open ON alerts (device_id, check_name, subject) WHERE resolved_at IS NULL AND device_id IS NOT NULL;
CREATE UNIQUE INDEX alerts_open_site ON alerts (site_id, check_name) WHERE resolved_at IS NULL AND device_id IS NULL;
CREATE INDEX alerts_by_device ON alerts (device_id, opened_at);
CREATE INDEX alerts_by_time ON alerts (opened_at, id);
CREATE INDEX alerts_by_check ON alerts (check_name, opened_at);
CREATE INDEX alerts_due ON alerts (due) WHERE due IS NOT NULL;
CREATE INDEX alerts_parent ON alerts (parent_id) WHERE parent_id IS NOT NULL;

CREATE TABLE alert_events (
    id       bigserial PRIMARY KEY,
    alert_id uuid NOT NULL REFERENCES alerts,
    at       timestamptz NOT NULL,
    kind     text NOT NULL,
    actor    text NOT NULL, -- a person's e-mail, or "service"
    detail   text NOT NULL
);
CREATE INDEX alert_events_by_alert ON alert_events (alert_id, id);

CREATE TABLE channels (
    id         uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    name       text NOT NULL UNIQUE,
    kind       text NOT NULL, -- email or webhook
    target     text NOT NULL, -- addresses, or the URL
    secret     bytea NOT NULL, -- that webhooks are signed with
    changed_at timestamptz NOT NULL,
    changed_by text NOT NULL
);
CREATE TABLE rules (
    id         uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    name       text NOT NULL UNIQUE,
    spec       jsonb NOT NULL, -- of core/health
    changed_at timestamptz NOT NULL,
    changed_by text NOT NULL
);
-- What was told, or is to be told, to a channel.
CREATE TABLE deliveries (
    id         uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    channel_id uuid NOT NULL REFERENCES channels ON DELETE CASCADE,
    rule       text NOT NULL,
    events     jsonb NOT NULL, -- one, or those of a digest
    state      text NOT NULL, -- gathering, waiting, sent or failed
    due        timestamptz NOT NULL,
    attempts   int NOT NULL DEFAULT 0,
    error      text NOT NULL DEFAULT '',
    created_at timestamptz NOT NULL,
    sent_at    timestamptz
);
CREATE INDEX deliveries_due ON deliveries (due) WHERE state IN ('gathering', 'waiting');
CREATE INDEX deliveries_by_time ON deliveries (created_at, id);

-- Inventory.
CREATE TABLE inventories (
    device_id uuid PRIMARY KEY REFERENCES devices,
    items     jsonb NOT NULL
);
CREATE TABLE changes (
    id        bigserial PRIMARY KEY,
    device_id uuid NOT NULL REFERENCES devices,
    at        timestamptz NOT NULL, -- when it was found; it happened after the inventory before
    not_before timestamptz NOT NULL,
    section   text NOT NULL,
    key       text NOT NULL,
    name      text NOT NULL,
    kind      text NOT NULL,
    summary   text NOT NULL,
    before    jsonb,
    after     jsonb,
    signature text NOT NULL -- equal for the same change on other devices
);
CREATE INDEX changes_by_device ON changes (device_id, at);
CREATE INDEX changes_by_signature ON changes (signature, device_id);
CREATE INDEX changes_by_time ON changes (at, id);
CREATE TABLE software (
    id      serial PRIMARY KEY,
    name    text NOT NULL,
    version text NOT NULL,
    source  text NOT NULL,
    purl    text NOT NULL,
    UNIQUE (name, version, source)
);
CREATE TABLE installed (
    device_id   uuid NOT NULL REFERENCES devices,
    software_id int NOT NULL REFERENCES software,
    PRIMARY KEY (device_id, software_id)
);
CREATE INDEX installed_by_software ON installed (software_id);

-- Groups, tags and favourites.
CREATE TABLE groups (
    id          uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    name        text NOT NULL UNIQUE,
    expression  text NOT NULL, -- CEL; empty for a static group
    changed_at  timestamptz NOT NULL,
    changed_by  text NOT NULL
);
CREATE TABLE group_members (
    group_id  uuid NOT NULL REFERENCES groups ON DELETE CASCADE,
    device_id uuid NOT NULL REFERENCES devices,
    PRIMARY KEY (group_id, device_id)
);
CREATE INDEX group_members_by_device ON group_members (device_id);
CREATE TABLE tags (
    device_id uuid NOT NULL REFERENCES devices,
    tag       text NOT NULL,
    PRIMARY KEY (device_id, tag)
);
CREATE TABLE favourites (
    person_id uuid NOT NULL REFERENCES people,
    device_id uuid NOT NULL REFERENCES devices,
    PRIMARY KEY (person_id, device_id)
);

-- +goose Down
DROP TABLE favourites, tags, group_members, groups, installed, software, changes, inventories, deliveries, rules, channels,
    alert_events, alerts, maintenance_windows, policies, chunks, readings, layouts;
ALTER TABLE findings DROP COLUMN pending, DROP COLUMN rising, DROP COLUMN rising_since, DROP COLUMN due;
ALTER TABLE devices DROP COLUMN trends, DROP COLUMN safety, DROP COLUMN inventory_digest, DROP COLUMN inventory_at;
CREATE TABLE vitals (
    device_id uuid NOT NULL, at timestamptz NOT NULL, cpu real NOT NULL, memory real NOT NULL, disk real, load1 real NOT NULL,
    receive real NOT NULL, transmit real NOT NULL, temperature real
);
