-- +goose Up

-- What each person did with each tool at each device, from the first call to the last.
CREATE TABLE tool_sessions (
    id             uuid PRIMARY KEY,
    person_id      uuid NOT NULL REFERENCES people,
    actor          text NOT NULL,
    via            text NOT NULL,
    address        text NOT NULL,
    device_id      uuid NOT NULL REFERENCES devices,
    device_name    text NOT NULL,
    tool           text NOT NULL,
    reason         text NOT NULL,
    consent        text NOT NULL,
    began_at       timestamptz NOT NULL,
    last_at        timestamptz NOT NULL,
    ended_at       timestamptz,
    ending         text NOT NULL DEFAULT '',
    received       bigint NOT NULL DEFAULT 0, -- bytes, from the device
    sent           bigint NOT NULL DEFAULT 0,
    deeds          int NOT NULL DEFAULT 0,
    interrupted    double precision NOT NULL DEFAULT 0, -- seconds that the person had a question before them
    note           text NOT NULL DEFAULT ''
);
CREATE INDEX tool_sessions_by_device ON tool_sessions (device_id, began_at DESC, id);
CREATE INDEX tool_sessions_by_time ON tool_sessions (began_at DESC, id);
CREATE INDEX tool_sessions_open ON tool_sessions (last_at) WHERE ended_at IS NULL;

-- How people take part in sessions at their devices.
CREATE TABLE consent_rules (
    id          uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    scope_kind  text NOT NULL,
    scope_id    text NOT NULL,
    tool        text NOT NULL, -- '' is every tool
    mode        text NOT NULL,
    seconds     int NOT NULL,
    unanswered  boolean NOT NULL,
    absent      boolean NOT NULL,
    changed_at  timestamptz NOT NULL,
    changed_by  text NOT NULL,
    UNIQUE (scope_kind, scope_id, tool)
);

-- +goose Down
DROP TABLE consent_rules, tool_sessions;
