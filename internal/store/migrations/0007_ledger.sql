-- +goose Up
-- Exclusions become a ledger: recorded with or without a change, for whom, until when.
ALTER TABLE exclusions ALTER COLUMN change_id DROP NOT NULL;
ALTER TABLE exclusions
  ADD COLUMN environments jsonb NOT NULL DEFAULT '[]',
  ADD COLUMN classes jsonb NOT NULL DEFAULT '[]',
  ADD COLUMN personas jsonb NOT NULL DEFAULT '[]',
  ADD COLUMN look_again date,
  ADD COLUMN retired_at timestamptz,
  ADD COLUMN retired_by text NOT NULL DEFAULT '',
  ADD COLUMN retired_why text NOT NULL DEFAULT '',
  ADD COLUMN trial_id bigint REFERENCES changes ON DELETE SET NULL;
CREATE UNIQUE INDEX exclusions_recorded ON exclusions (site_id, key, pattern) WHERE change_id IS NULL AND retired_at IS NULL;
CREATE INDEX ON exclusions (site_id);

CREATE TABLE exclusion_events (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  exclusion_id bigint NOT NULL REFERENCES exclusions ON DELETE CASCADE,
  who text NOT NULL,
  text text NOT NULL,
  at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON exclusion_events (exclusion_id);

-- Policies that were decided otherwise than by default.
CREATE TABLE policies (
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  class text NOT NULL,
  persona text NOT NULL,
  policy text NOT NULL,
  reason text NOT NULL,
  who text NOT NULL,
  at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (site_id, class, persona)
);

-- Addresses that a site is known to have beside those that are watched.
CREATE TABLE addresses (
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  path text NOT NULL,
  class text NOT NULL,
  PRIMARY KEY (site_id, path)
);

-- +goose Down
DROP TABLE addresses;
DROP TABLE policies;
DROP TABLE exclusion_events;
DROP INDEX exclusions_recorded;
DELETE FROM exclusions WHERE change_id IS NULL;
ALTER TABLE exclusions ALTER COLUMN change_id SET NOT NULL, DROP COLUMN environments, DROP COLUMN classes, DROP COLUMN personas,
  DROP COLUMN look_again, DROP COLUMN retired_at, DROP COLUMN retired_by, DROP COLUMN retired_why, DROP COLUMN trial_id;
