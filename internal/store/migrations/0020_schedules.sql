-- +goose Up
-- What is done again and again by itself.
CREATE TABLE schedules (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  schedule jsonb NOT NULL, -- schedule.Schedule
  paused boolean NOT NULL DEFAULT false,
  version int NOT NULL DEFAULT 1,
  made_by text NOT NULL,
  made_at timestamptz NOT NULL DEFAULT now(),
  last_due timestamptz NOT NULL DEFAULT now(), -- up to here nothing is due any more
  last_run bigint REFERENCES runs ON DELETE SET NULL,
  said text NOT NULL DEFAULT '' -- what it waits for, or what came of the last reading
);
CREATE INDEX schedules_site ON schedules (site_id);

-- +goose Down
DROP TABLE schedules;
