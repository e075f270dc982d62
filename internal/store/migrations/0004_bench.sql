-- +goose Up
-- The change before this one in a series, and who edited a change last.
ALTER TABLE changes ADD COLUMN follows bigint REFERENCES changes ON DELETE SET NULL;
ALTER TABLE changes ADD COLUMN edited_by text NOT NULL DEFAULT '';

-- A team's own bundles.
CREATE TABLE bundles (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name text NOT NULL UNIQUE,
  summary text NOT NULL DEFAULT '',
  wishes jsonb NOT NULL,
  made_by text NOT NULL,
  made_at timestamptz NOT NULL DEFAULT now()
);

-- What a person does by hand in a site's own administration.
CREATE TABLE manual_tasks (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  environment_id bigint NOT NULL REFERENCES environments ON DELETE CASCADE,
  run_id bigint NOT NULL UNIQUE REFERENCES runs ON DELETE CASCADE,
  target text NOT NULL,
  predecessor text NOT NULL,
  items jsonb NOT NULL,
  state text NOT NULL DEFAULT 'open',
  proof jsonb,
  done_by text NOT NULL DEFAULT '',
  made_at timestamptz NOT NULL DEFAULT now(),
  done_at timestamptz
);
CREATE UNIQUE INDEX ON manual_tasks (environment_id) WHERE state = 'open';

-- Files that were exported from a site's own administration.
CREATE TABLE exports (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  environment_id bigint NOT NULL REFERENCES environments ON DELETE CASCADE,
  fingerprint text NOT NULL,
  document jsonb NOT NULL,
  who text NOT NULL,
  at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON exports (environment_id, id DESC);

-- Sites that somebody is adding.
CREATE TABLE onboardings (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name text NOT NULL,
  document jsonb NOT NULL,
  tokens jsonb NOT NULL DEFAULT '{}',
  made_by text NOT NULL,
  made_at timestamptz NOT NULL DEFAULT now(),
  updated_at timestamptz NOT NULL DEFAULT now()
);

CREATE INDEX ON runs (site_id, id DESC);
CREATE INDEX ON changes (site_id) WHERE state NOT IN ('marked', 'discarded', 'rolled back');

-- +goose Down
DROP TABLE onboardings, exports, manual_tasks, bundles;
ALTER TABLE changes DROP COLUMN follows, DROP COLUMN edited_by;
