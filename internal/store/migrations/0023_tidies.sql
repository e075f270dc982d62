-- +goose Up
-- Tidies that recur: what each time is to delete, and how many records it found and left.
ALTER TABLE runs ADD COLUMN tidy jsonb; -- schedule.Work
CREATE INDEX runs_tidy ON runs (((tidy->>'schedule')::bigint)) WHERE tidy IS NOT NULL;
ALTER TABLE schedules ADD COLUMN edited_at timestamptz NOT NULL DEFAULT now(); -- what is usual is learned from here on

-- +goose Down
ALTER TABLE schedules DROP COLUMN edited_at;
ALTER TABLE runs DROP COLUMN tidy;
