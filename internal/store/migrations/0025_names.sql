-- +goose Up
-- The names of the trade, in tables and in stored values. The history keeps the words in which it was written.
ALTER TABLE climbs RENAME TO step_ups;
ALTER TABLE step_ups RENAME COLUMN climb TO step_up;
ALTER INDEX climbs_open RENAME TO step_ups_open;
ALTER INDEX climbs_change RENAME TO step_ups_change;
ALTER TABLE foresights RENAME TO predictions;
ALTER TABLE later_looks RENAME TO rechecks;
ALTER TABLE rechecks RENAME COLUMN later_run_id TO recheck_run_id;
ALTER TABLE runs RENAME COLUMN put_back TO restores;
ALTER TABLE rollout_sites RENAME COLUMN left_out TO skipped;

-- Also called when an archive of an earlier version was read in.
-- +goose StatementBegin
CREATE FUNCTION rename_stored_values() RETURNS void LANGUAGE sql AS $$
  UPDATE runs SET kind = 'recheck' WHERE kind = 'later look';
  UPDATE acts SET kind = 'restore' WHERE kind = 'put back';
  UPDATE watch_looks SET state = 'skipped' WHERE state = 'left out';
$$;
-- +goose StatementEnd
SELECT rename_stored_values();

-- Jobs that wait for their time.
-- +goose StatementBegin
DO $$ BEGIN
  IF to_regclass('river_job') IS NOT NULL THEN
    UPDATE river_job SET kind = 'recheck', queue = 'rechecks' WHERE kind = 'later-look';
  END IF;
END $$;
-- +goose StatementEnd

-- +goose Down
-- +goose StatementBegin
DO $$ BEGIN
  IF to_regclass('river_job') IS NOT NULL THEN
    UPDATE river_job SET kind = 'later-look', queue = 'later' WHERE kind = 'recheck';
  END IF;
END $$;
-- +goose StatementEnd
DROP FUNCTION rename_stored_values;
UPDATE watch_looks SET state = 'left out' WHERE state = 'skipped';
UPDATE acts SET kind = 'put back' WHERE kind = 'restore';
UPDATE runs SET kind = 'later look' WHERE kind = 'recheck';
ALTER TABLE rollout_sites RENAME COLUMN skipped TO left_out;
ALTER TABLE runs RENAME COLUMN restores TO put_back;
ALTER TABLE rechecks RENAME COLUMN recheck_run_id TO later_run_id;
ALTER TABLE rechecks RENAME TO later_looks;
ALTER TABLE predictions RENAME TO foresights;
ALTER INDEX step_ups_change RENAME TO climbs_change;
ALTER INDEX step_ups_open RENAME TO climbs_open;
ALTER TABLE step_ups RENAME COLUMN step_up TO climb;
ALTER TABLE step_ups RENAME TO climbs;
