-- +goose Up

-- A try counts as a failure until it has succeeded, and is taken back by its number.
ALTER TABLE sign_in_failures ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY;

-- Browsers with which somebody has signed in: the failures of others do not lock them out there.
CREATE TABLE known_browsers (
    hash       bytea PRIMARY KEY,
    person_id  uuid NOT NULL REFERENCES people,
    added_at   timestamptz NOT NULL,
    expires_at timestamptz NOT NULL
);
CREATE INDEX known_browsers_by_person ON known_browsers (person_id);

-- +goose Down
DROP TABLE known_browsers;
ALTER TABLE sign_in_failures DROP COLUMN id;
