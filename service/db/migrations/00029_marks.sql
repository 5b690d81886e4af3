-- +goose Up
-- Hashes of the mark that a device showed last, and of those that it was given since: it may have got any of them.
ALTER TABLE devices RENAME COLUMN mark_before TO mark_shown;
ALTER TABLE devices ADD COLUMN marks_given text[] NOT NULL DEFAULT '{}';
UPDATE devices SET marks_given = ARRAY[mark] WHERE mark <> '';
ALTER TABLE devices DROP COLUMN mark;

-- +goose Down
ALTER TABLE devices ADD COLUMN mark text NOT NULL DEFAULT '';
UPDATE devices SET mark = marks_given[cardinality(marks_given)] WHERE marks_given <> '{}';
ALTER TABLE devices DROP COLUMN marks_given;
ALTER TABLE devices RENAME COLUMN mark_shown TO mark_before;
