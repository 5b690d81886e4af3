-- +goose Up

-- A token may have its devices wait until somebody lets them in.
ALTER TABLE enrolment_tokens ADD COLUMN approval boolean NOT NULL DEFAULT false;
ALTER TABLE devices ADD COLUMN waiting boolean NOT NULL DEFAULT false,
    -- Devices that tell nothing of their own of their hardware are told from copies by marks: what each was given when
    -- it last connected, and the time before (hashes).
    ADD COLUMN mark text NOT NULL DEFAULT '', ADD COLUMN mark_before text NOT NULL DEFAULT '';
ALTER TABLE identity_questions DROP CONSTRAINT identity_questions_kind_check,
    ADD CONSTRAINT identity_questions_kind_check CHECK (kind IN ('copied', 'returned', 'enrolled'));

-- +goose Down
ALTER TABLE enrolment_tokens DROP COLUMN approval;
ALTER TABLE devices DROP COLUMN waiting, DROP COLUMN mark, DROP COLUMN mark_before;
