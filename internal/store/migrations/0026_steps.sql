-- +goose Up
-- Each write of a change raises its version; its edition is the version as which somebody last edited it.
ALTER TABLE changes ADD COLUMN edition int NOT NULL DEFAULT 1;
UPDATE changes SET edition = version;

-- What a run's environment had when the run was requested: it acts on nothing else.
ALTER TABLE runs ADD COLUMN expects text NOT NULL DEFAULT '';

-- When a look of a watch found something, and staging was to be asked about it.
ALTER TABLE watch_looks ADD COLUMN asked_at timestamptz;

-- A mark is saved with the end of its run, one of each.
DELETE FROM marks m WHERE EXISTS (SELECT FROM marks later WHERE later.run_id = m.run_id AND later.id > m.id);
CREATE UNIQUE INDEX marks_run ON marks (run_id);

-- +goose Down
DROP INDEX marks_run;
ALTER TABLE watch_looks DROP COLUMN asked_at;
ALTER TABLE runs DROP COLUMN expects;
ALTER TABLE changes DROP COLUMN edition;
