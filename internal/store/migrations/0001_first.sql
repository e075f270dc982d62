-- +goose Up
CREATE TABLE sites (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name text NOT NULL UNIQUE,
  document jsonb NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  updated_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE environments (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  name text NOT NULL,
  position int NOT NULL,
  url text NOT NULL,
  connector_kind text NOT NULL DEFAULT '',
  connector_url text NOT NULL DEFAULT '',
  token text NOT NULL DEFAULT '',
  about jsonb,
  catalogue jsonb,
  fingerprint text NOT NULL DEFAULT '',
  read_at timestamptz,
  UNIQUE (site_id, name)
);

CREATE TABLE revisions (
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  fingerprint text NOT NULL,
  values jsonb NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (site_id, fingerprint)
);

CREATE TABLE changes (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  title text NOT NULL,
  reason text NOT NULL DEFAULT '',
  effect text NOT NULL DEFAULT '',
  state text NOT NULL,
  base text NOT NULL,
  edits jsonb NOT NULL DEFAULT '{}',
  version int NOT NULL DEFAULT 1,
  explanation text NOT NULL DEFAULT '',
  created_by text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  updated_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON changes (site_id, updated_at DESC);

CREATE TABLE runs (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  environment_id bigint NOT NULL REFERENCES environments ON DELETE CASCADE,
  change_id bigint REFERENCES changes ON DELETE CASCADE,
  kind text NOT NULL,
  state text NOT NULL DEFAULT 'queued',
  phase text NOT NULL DEFAULT '',
  progress jsonb NOT NULL DEFAULT '{}',
  target text NOT NULL DEFAULT '',
  before text NOT NULL DEFAULT '',
  put_back boolean NOT NULL DEFAULT false,
  restored boolean NOT NULL DEFAULT false,
  mark_id bigint,
  next_id bigint,
  verdict text NOT NULL DEFAULT '',
  summary text NOT NULL DEFAULT '',
  problem text NOT NULL DEFAULT '',
  stop_asked boolean NOT NULL DEFAULT false,
  attempt int NOT NULL DEFAULT 0,
  requested_by text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  started_at timestamptz,
  finished_at timestamptz
);
CREATE INDEX ON runs (environment_id, id DESC);
CREATE INDEX ON runs (change_id, id DESC);
CREATE INDEX ON runs (id) WHERE state IN ('queued', 'running', 'waiting');

CREATE TABLE acts (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  environment_id bigint NOT NULL REFERENCES environments ON DELETE CASCADE,
  run_id bigint REFERENCES runs ON DELETE SET NULL,
  change_id bigint REFERENCES changes ON DELETE SET NULL,
  kind text NOT NULL,
  fingerprint text NOT NULL,
  predecessor text NOT NULL,
  state text NOT NULL,
  note text NOT NULL DEFAULT '',
  who text NOT NULL,
  intended_at timestamptz NOT NULL DEFAULT now(),
  ended_at timestamptz
);
CREATE INDEX ON acts (environment_id, id DESC);
CREATE INDEX ON acts (run_id);

CREATE TABLE looks (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
  pass int NOT NULL,
  kind text NOT NULL,
  page text NOT NULL,
  journey text NOT NULL DEFAULT '',
  persona text NOT NULL,
  device text NOT NULL,
  document jsonb NOT NULL,
  made_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON looks (run_id, pass);

CREATE TABLE findings (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
  place int NOT NULL,
  state text NOT NULL DEFAULT 'open',
  document jsonb NOT NULL,
  accepted_by text NOT NULL DEFAULT '',
  accepted_why text NOT NULL DEFAULT '',
  accepted_at timestamptz
);
CREATE INDEX ON findings (run_id, place);

CREATE TABLE marks (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  environment_id bigint NOT NULL REFERENCES environments ON DELETE CASCADE,
  run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
  fingerprint text NOT NULL,
  restless jsonb NOT NULL,
  probes jsonb NOT NULL DEFAULT '[]',
  reason text NOT NULL DEFAULT '',
  who text NOT NULL,
  taken_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON marks (environment_id, id DESC);

CREATE TABLE exclusions (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  change_id bigint NOT NULL REFERENCES changes ON DELETE CASCADE,
  finding_id bigint REFERENCES findings ON DELETE SET NULL,
  role text NOT NULL,
  key text NOT NULL,
  pattern text NOT NULL,
  reason text NOT NULL,
  who text NOT NULL,
  made_at timestamptz NOT NULL DEFAULT now(),
  UNIQUE (change_id, key, pattern)
);

CREATE TABLE history (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  environment_id bigint REFERENCES environments ON DELETE SET NULL,
  change_id bigint REFERENCES changes ON DELETE SET NULL,
  run_id bigint REFERENCES runs ON DELETE SET NULL,
  kind text NOT NULL,
  text text NOT NULL,
  who text NOT NULL,
  at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON history (site_id, id DESC);

CREATE TABLE blobs (
  sha256 text PRIMARY KEY,
  media_type text NOT NULL,
  size int NOT NULL,
  bytes bytea NOT NULL,
  kept_at timestamptz NOT NULL DEFAULT now()
);
-- Pictures are compressed already.
ALTER TABLE blobs ALTER COLUMN bytes SET STORAGE EXTERNAL;

-- +goose Down
DROP TABLE blobs, history, exclusions, marks, findings, looks, acts, runs, changes, revisions, environments, sites;
