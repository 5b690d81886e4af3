-- +goose Up
ALTER TABLE tool_sessions RENAME deeds TO actions;
ALTER TABLE responses RENAME course TO progress;
ALTER TABLE missing RENAME trouble TO problem;
ALTER TABLE report_schedules RENAME trouble TO problem;
ALTER TABLE jobs RENAME target TO selection;
ALTER TABLE rollouts RENAME target TO selection;
UPDATE jobs SET work = (work - 'deed') || jsonb_build_object('action', work->'deed') WHERE work ? 'deed';

-- +goose Down
UPDATE jobs SET work = (work - 'action') || jsonb_build_object('deed', work->'action') WHERE work ? 'action';
ALTER TABLE rollouts RENAME selection TO target;
ALTER TABLE jobs RENAME selection TO target;
ALTER TABLE report_schedules RENAME problem TO trouble;
ALTER TABLE missing RENAME problem TO trouble;
ALTER TABLE responses RENAME progress TO course;
ALTER TABLE tool_sessions RENAME actions TO deeds;
