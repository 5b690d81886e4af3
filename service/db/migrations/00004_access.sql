-- +goose Up

-- Roles of one's own; the built-in ones are in the code.
CREATE TABLE roles (
    name        text PRIMARY KEY,
    about       text NOT NULL,
    permissions text[] NOT NULL,
    changed_at  timestamptz NOT NULL,
    changed_by  text NOT NULL
);

-- Which role who holds where. A scope is of the kinds that policies have, but for devices.
CREATE TABLE grants (
    person_id  uuid NOT NULL REFERENCES people,
    role       text NOT NULL,
    scope_kind text NOT NULL,
    scope_id   text NOT NULL,
    PRIMARY KEY (person_id, role, scope_kind, scope_id)
);
INSERT INTO grants SELECT id, role, 'everywhere', '' FROM people;
ALTER TABLE people DROP COLUMN role,
    ADD removed_at   timestamptz,
    ADD last_seen_at timestamptz,
    DROP CONSTRAINT people_email_key;
CREATE UNIQUE INDEX people_by_email ON people (email) WHERE removed_at IS NULL;

-- A session whose second factor is still awaited opens nothing. challenge is what a passkey is to sign.
ALTER TABLE sessions
    ADD id           uuid NOT NULL UNIQUE DEFAULT gen_random_uuid(),
    ADD last_used_at timestamptz,
    ADD browser      text NOT NULL DEFAULT '',
    ADD pending      boolean NOT NULL DEFAULT false,
    ADD challenge    jsonb;

-- An authenticator (RFC 6238). It counts once it is confirmed; last_step is the last that was used.
CREATE TABLE authenticators (
    person_id    uuid PRIMARY KEY REFERENCES people,
    secret       text NOT NULL,
    added_at     timestamptz NOT NULL,
    confirmed_at timestamptz,
    last_step    bigint NOT NULL DEFAULT 0
);

CREATE TABLE passkeys (
    id           bytea PRIMARY KEY,
    person_id    uuid NOT NULL REFERENCES people,
    name         text NOT NULL,
    credential   jsonb NOT NULL,
    added_at     timestamptz NOT NULL,
    last_used_at timestamptz
);
CREATE INDEX passkeys_by_person ON passkeys (person_id);

CREATE TABLE recovery_codes (
    hash      bytea PRIMARY KEY,
    person_id uuid NOT NULL REFERENCES people
);
CREATE INDEX recovery_codes_by_person ON recovery_codes (person_id);

INSERT INTO service VALUES ('second factor', 'optional');

-- +goose Down
DROP TABLE recovery_codes, passkeys, authenticators;
DELETE FROM service WHERE name = 'second factor';
ALTER TABLE sessions DROP COLUMN id, DROP COLUMN last_used_at, DROP COLUMN browser, DROP COLUMN pending, DROP COLUMN challenge;
DELETE FROM grants g USING people p WHERE p.id = g.person_id AND p.removed_at IS NOT NULL;
DROP INDEX people_by_email;
ALTER TABLE people ADD role text NOT NULL DEFAULT 'viewer', DROP COLUMN removed_at, DROP COLUMN last_seen_at;
UPDATE people p SET role = g.role FROM grants g WHERE g.person_id = p.id AND g.scope_kind = 'everywhere';
DROP TABLE grants, roles;
