-- +goose Up
-- Periodic work has one kind now, with its name as an argument. The queue's table is not there before the first start.
-- +goose StatementBegin
DO $$ BEGIN
	IF to_regclass('river_job') IS NOT NULL THEN
		DELETE FROM river_job WHERE kind IN ('expire', 'compact', 'trend', 'suspect', 'record', 'report');
	END IF;
END $$;
-- +goose StatementEnd

-- +goose Down
