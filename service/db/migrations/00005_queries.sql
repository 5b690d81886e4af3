-- +goose Up

CREATE TABLE saved_queries (
    id        uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    name      text NOT NULL UNIQUE,
    text      text NOT NULL,
    person_id uuid NOT NULL REFERENCES people,
    saved_by  text NOT NULL,
    saved_at  timestamptz NOT NULL
);

-- What a shell printed. A shell outlives its connections, and with it its recording: it is known by
-- the shell's own id at its device.
CREATE TABLE recordings (
    id          uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    device_id   uuid NOT NULL REFERENCES devices,
    shell       uuid NOT NULL,
    device_name text NOT NULL,
    person_id   uuid NOT NULL REFERENCES people,
    actor       text NOT NULL,
    person      text NOT NULL, -- whom it ran as
    program     text NOT NULL,
    began_at    timestamptz NOT NULL,
    last_at     timestamptz NOT NULL,
    ended_at    timestamptz,
    printed     bigint NOT NULL DEFAULT 0, -- the byte of all that it printed up to which is recorded
    bytes       bigint NOT NULL DEFAULT 0, -- recorded
    pieces      int NOT NULL DEFAULT 0,
    complete    boolean NOT NULL DEFAULT true,
    UNIQUE (device_id, shell)
);
CREATE INDEX recordings_by_time ON recordings (began_at DESC, id);
CREATE INDEX recordings_by_device ON recordings (device_id, began_at DESC, id);

-- events are JSON lines, compressed (RFC 1952); words is their text without control sequences.
CREATE TABLE recording_pieces (
    recording_id uuid NOT NULL REFERENCES recordings ON DELETE CASCADE,
    n            int NOT NULL,
    events       bytea NOT NULL,
    words        text NOT NULL,
    PRIMARY KEY (recording_id, n)
);

-- +goose Down
DROP TABLE recording_pieces, recordings, saved_queries;
