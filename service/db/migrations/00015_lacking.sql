-- +goose Up

-- Devices whose software a package of the library would bring to a newer version.
CREATE TABLE lacking (
    device_id uuid NOT NULL REFERENCES devices ON DELETE CASCADE,
    update_id int NOT NULL REFERENCES updates ON DELETE CASCADE,
    from_version text NOT NULL,
    PRIMARY KEY (device_id, update_id)
);

-- +goose Down
DROP TABLE lacking;
