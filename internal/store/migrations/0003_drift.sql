-- +goose Up
-- What somebody changed on an environment outside Tide Marker, until a person accepts it
-- or puts it back.
CREATE TABLE drifts (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  environment_id bigint NOT NULL REFERENCES environments ON DELETE CASCADE,
  was text NOT NULL,
  found text NOT NULL,
  found_at timestamptz NOT NULL DEFAULT now(),
  state text NOT NULL DEFAULT 'open',
  settled_by text NOT NULL DEFAULT '',
  settled_at timestamptz,
  reason text NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX ON drifts (environment_id) WHERE state = 'open';
CREATE INDEX ON drifts (site_id, id DESC);

-- +goose Down
DROP TABLE drifts;
