-- +goose Up

-- When the person of a session last proved who they are: what is grave asks for a recent proof.
ALTER TABLE sessions ADD COLUMN proved_at timestamptz NOT NULL DEFAULT now();
INSERT INTO service (name, value) VALUES ('idle minutes', '60') ON CONFLICT DO NOTHING;

-- +goose Down
ALTER TABLE sessions DROP COLUMN proved_at;
DELETE FROM service WHERE name = 'idle minutes';
