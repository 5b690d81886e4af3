-- +goose Up
-- Who made an enrolment token: its devices wait to be let in when that person may not enrol devices there any more.
-- Null for tokens that the service made, and those from before.
ALTER TABLE enrolment_tokens ADD COLUMN person_id uuid;
-- With which token a copy becomes a device of its own, as was answered; once it is used, somebody is asked anew.
ALTER TABLE identity_questions ADD COLUMN anew_token uuid REFERENCES enrolment_tokens ON DELETE SET NULL;

-- +goose Down
ALTER TABLE identity_questions DROP COLUMN anew_token;
ALTER TABLE enrolment_tokens DROP COLUMN person_id;
