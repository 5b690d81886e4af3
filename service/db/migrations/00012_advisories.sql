-- +goose Up

-- Feeds of advisories that were imported.
CREATE TABLE feeds (
    name text PRIMARY KEY,
    refused int NOT NULL DEFAULT 0,
    refusals text[] NOT NULL DEFAULT '{}',
    imported_at timestamptz NOT NULL DEFAULT now(),
    imported_by text NOT NULL
);

CREATE TABLE advisories (
    num serial PRIMARY KEY,
    id text NOT NULL UNIQUE,
    names text[] NOT NULL, -- its others
    feed text NOT NULL REFERENCES feeds ON DELETE CASCADE,
    content jsonb NOT NULL, -- without what it affects
    score real NOT NULL,
    severity text NOT NULL,
    exploited jsonb, -- the entry of a list of what is known to be exploited
    import uuid NOT NULL -- the last that had it
);
CREATE INDEX advisories_names ON advisories USING gin (names);
CREATE INDEX advisories_feed ON advisories (feed);

-- The packages that advisories are about, by type, namespace and name.
CREATE TABLE advisory_packages (
    advisory_num int NOT NULL REFERENCES advisories ON DELETE CASCADE,
    key text NOT NULL,
    affected jsonb NOT NULL
);
CREATE INDEX advisory_packages_key ON advisory_packages (key);
CREATE INDEX advisory_packages_advisory ON advisory_packages (advisory_num);

CREATE TABLE exploited (
    name text PRIMARY KEY,
    feed text NOT NULL REFERENCES feeds ON DELETE CASCADE,
    content jsonb NOT NULL,
    import uuid NOT NULL
);
CREATE INDEX exploited_feed ON exploited (feed);

-- Counts the imports: software that was compared with advisories before the last is compared again.
CREATE TABLE advisory_imports (count int NOT NULL);
INSERT INTO advisory_imports VALUES (1);

ALTER TABLE software ADD built_from text NOT NULL DEFAULT '', ADD built_version text NOT NULL DEFAULT '', ADD compared int NOT NULL DEFAULT 0;
CREATE INDEX software_compared ON software (compared);

CREATE TABLE weaknesses (
    software_id int NOT NULL REFERENCES software ON DELETE CASCADE,
    advisory_num int NOT NULL REFERENCES advisories ON DELETE CASCADE,
    release text NOT NULL, -- of the distribution; '' for all
    fixed text NOT NULL,   -- the version in which it is mended; '' where none is known
    PRIMARY KEY (software_id, advisory_num, release)
);
CREATE INDEX weaknesses_advisory ON weaknesses (advisory_num);

-- The advisories about software of each device that has any such.
CREATE TABLE weak_devices (
    device_id uuid PRIMARY KEY REFERENCES devices ON DELETE CASCADE,
    advisories int[] NOT NULL,
    exploited int NOT NULL -- of them
);

ALTER TABLE updates ADD mends int[] NOT NULL DEFAULT '{}'; -- numbers of advisories

-- +goose Down
ALTER TABLE updates DROP mends;
ALTER TABLE software DROP built_from, DROP built_version, DROP compared;
DROP TABLE weak_devices, weaknesses, advisory_imports, exploited, advisory_packages, advisories, feeds;
