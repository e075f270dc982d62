-- +goose Up
-- A change that settled on one site and goes on to others.
CREATE TABLE rollouts (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE, -- on which it settled
  change_id bigint NOT NULL REFERENCES changes ON DELETE CASCADE,
  state text NOT NULL, -- rollout.State
  why text NOT NULL DEFAULT '', -- it stopped or ended
  pace text NOT NULL, -- rollout.Pace
  measures boolean NOT NULL, -- each staging is measured, too
  title text NOT NULL, -- of the changes
  reason text NOT NULL,
  made_by text NOT NULL,
  made_at timestamptz NOT NULL,
  gone_by text NOT NULL DEFAULT '', -- who let the waves go, last
  gone_decides boolean NOT NULL DEFAULT false, -- and whether they decide about production
  gone_at timestamptz
);
CREATE INDEX rollouts_change ON rollouts (change_id);
CREATE INDEX rollouts_open ON rollouts (id) WHERE state <> 'ended';

CREATE TABLE rollout_sites (
  rollout_id bigint NOT NULL REFERENCES rollouts ON DELETE CASCADE,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  wave int NOT NULL,
  confirmed jsonb NOT NULL, -- keys there whose values somebody said are right, though they name something of the other site
  change_id bigint UNIQUE REFERENCES changes ON DELETE CASCADE, -- there; NULL until it is begun
  nothing boolean NOT NULL DEFAULT false, -- it has all of it already
  without jsonb NOT NULL DEFAULT '[]', -- settings.Unmet: what was not copied
  left_out text NOT NULL DEFAULT '', -- why somebody left it out
  said text NOT NULL DEFAULT '', -- what it waits for
  try_at timestamptz NOT NULL, -- not looked at before
  measure_run_id bigint REFERENCES runs ON DELETE SET NULL,
  PRIMARY KEY (rollout_id, site_id)
);
CREATE INDEX rollout_sites_site ON rollout_sites (site_id);

-- +goose Down
DROP TABLE rollout_sites;
DROP TABLE rollouts;
