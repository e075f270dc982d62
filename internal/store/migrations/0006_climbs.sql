-- +goose Up
-- Climbs through the bundles: each works on one change, and goes on by itself until it is over.
CREATE TABLE climbs (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  change_id bigint NOT NULL REFERENCES changes ON DELETE CASCADE,
  climb jsonb NOT NULL, -- climb.Climb
  opens jsonb NOT NULL DEFAULT '{}', -- climb.Window in which something may be begun
  most_looks int NOT NULL DEFAULT 0, -- 0: as many as it takes
  waits text NOT NULL DEFAULT '', -- what it waits for, in words
  stop_asked boolean NOT NULL DEFAULT false,
  who text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  over_at timestamptz
);
CREATE UNIQUE INDEX climbs_open ON climbs (site_id) WHERE over_at IS NULL;
CREATE INDEX climbs_change ON climbs (change_id);

-- +goose Down
DROP TABLE climbs;
