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
  role text NOT NULL CHECK (role IN ('staging', 'production', 'other')),
  position int NOT NULL, -- in lists; it means nothing else
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
  follows bigint REFERENCES changes ON DELETE SET NULL,   -- the change before it in a series
  takes_out bigint REFERENCES changes ON DELETE SET NULL, -- the change whose edits it takes out again
  edited_by text NOT NULL DEFAULT '',
  created_by text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  updated_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON changes (site_id, updated_at DESC);
CREATE INDEX ON changes (site_id) WHERE state NOT IN ('marked', 'discarded', 'rolled back');

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
  attempt int NOT NULL DEFAULT 0,  -- how often it was begun
  handed int NOT NULL DEFAULT 0,   -- how often it was handed to the queue; an older job does nothing
  resume_at timestamptz,           -- not to be begun again before then
  requested_by text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  started_at timestamptz,
  finished_at timestamptz
);
CREATE INDEX ON runs (environment_id, id DESC);
CREATE INDEX ON runs (change_id, id DESC);
CREATE INDEX ON runs (site_id, id DESC);
CREATE INDEX ON runs (id) WHERE state IN ('queued', 'waiting', 'running', 'by hand', 'unknown');

-- What was done to an environment's settings, recorded before it was done.
CREATE TABLE acts (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  environment_id bigint NOT NULL REFERENCES environments ON DELETE CASCADE,
  run_id bigint REFERENCES runs ON DELETE SET NULL,
  change_id bigint REFERENCES changes ON DELETE SET NULL,
  kind text NOT NULL,
  fingerprint text NOT NULL,        -- to be in force
  predecessor text NOT NULL,        -- in force before
  base text NOT NULL DEFAULT '',    -- what the change was begun from
  found text NOT NULL DEFAULT '',   -- what was read back
  state text NOT NULL CHECK (state IN ('intended', 'applied', 'not applied', 'unknown')),
  note text NOT NULL DEFAULT '',
  who text NOT NULL,
  intended_at timestamptz NOT NULL DEFAULT now(),
  ended_at timestamptz,
  reads int NOT NULL DEFAULT 0,     -- while unknown: how often reading back failed
  next_read_at timestamptz          -- and when it is tried again
);
CREATE INDEX ON acts (environment_id, id DESC);
CREATE INDEX ON acts (run_id);
CREATE INDEX ON acts (change_id);
-- Nothing acts on top of what is not known.
CREATE UNIQUE INDEX acts_open ON acts (environment_id) WHERE state IN ('intended', 'unknown');

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
  name text NOT NULL, -- its fingerprint, with a number when a run has it more than once
  place int NOT NULL,
  state text NOT NULL DEFAULT 'open',
  document jsonb NOT NULL,
  accepted_by text NOT NULL DEFAULT '',
  accepted_why text NOT NULL DEFAULT '',
  accepted_at timestamptz,
  UNIQUE (run_id, name)
);
CREATE INDEX ON findings (run_id, place);

CREATE TABLE marks (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  environment_id bigint NOT NULL REFERENCES environments ON DELETE CASCADE,
  run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
  fingerprint text NOT NULL,
  volatile jsonb NOT NULL,
  probes jsonb NOT NULL DEFAULT '[]',
  reason text NOT NULL DEFAULT '',
  who text NOT NULL,
  taken_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON marks (environment_id, id DESC);

-- What somebody changed on an environment outside Tide Marker, until a person accepts it
-- or reverts it.
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

-- What is excluded, and why: recorded with or without a change, for whom, until when.
CREATE TABLE exclusions (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  change_id bigint REFERENCES changes ON DELETE CASCADE,
  finding_id bigint REFERENCES findings ON DELETE SET NULL,
  role text NOT NULL,
  key text NOT NULL,
  pattern text NOT NULL,
  reason text NOT NULL,
  who text NOT NULL,
  made_at timestamptz NOT NULL DEFAULT now(),
  environments jsonb NOT NULL DEFAULT '[]',
  classes jsonb NOT NULL DEFAULT '[]',
  personas jsonb NOT NULL DEFAULT '[]',
  look_again date,
  retired_at timestamptz,
  retired_by text NOT NULL DEFAULT '',
  retired_why text NOT NULL DEFAULT '',
  trial_id bigint REFERENCES changes ON DELETE SET NULL,
  UNIQUE (change_id, key, pattern)
);
CREATE UNIQUE INDEX exclusions_recorded ON exclusions (site_id, key, pattern) WHERE change_id IS NULL AND retired_at IS NULL;
CREATE INDEX ON exclusions (site_id);
CREATE INDEX ON exclusions (finding_id);

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

-- Addresses that a site is known to have beside those of the test plan.
CREATE TABLE addresses (
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  path text NOT NULL,
  class text NOT NULL,
  PRIMARY KEY (site_id, path)
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

-- Backups that somebody says there are, before something deletes data.
CREATE TABLE backups (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  environment_id bigint NOT NULL REFERENCES environments ON DELETE CASCADE,
  place text NOT NULL,
  who text NOT NULL,
  at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON backups (environment_id, id DESC);

-- In what a site's staging and production differ, as last compared.
CREATE TABLE parities (
  site_id bigint PRIMARY KEY REFERENCES sites ON DELETE CASCADE,
  document jsonb NOT NULL,
  who text NOT NULL,
  at timestamptz NOT NULL DEFAULT now()
);

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

CREATE TABLE people (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name text NOT NULL,
  password text NOT NULL, -- argon2id, with its salt and costs
  role text NOT NULL,
  disabled boolean NOT NULL DEFAULT false,
  epoch int NOT NULL DEFAULT 1, -- sessions of an earlier one are over
  created_at timestamptz NOT NULL DEFAULT now(),
  seen_at timestamptz
);
CREATE UNIQUE INDEX people_name ON people (lower(name));

CREATE TABLE invitations (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  secret_hash text NOT NULL UNIQUE,
  role text NOT NULL,
  person_id bigint REFERENCES people ON DELETE CASCADE, -- who gets a new password; NULL for somebody new
  note text NOT NULL DEFAULT '',
  invited_by text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  expires_at timestamptz NOT NULL,
  used_at timestamptz,
  used_by text NOT NULL DEFAULT ''
);

CREATE TABLE tokens (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  secret_hash text NOT NULL UNIQUE,
  name text NOT NULL,
  most text NOT NULL, -- it never may more than this role
  created_at timestamptz NOT NULL DEFAULT now(),
  expires_at timestamptz,
  used_at timestamptz,
  revoked_at timestamptz
);

CREATE TABLE sign_in_failures (
  name text NOT NULL,
  at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON sign_in_failures (name, at);

-- As the session store wants it.
CREATE TABLE sessions (
  token text PRIMARY KEY,
  data bytea NOT NULL,
  expiry timestamptz NOT NULL
);
CREATE INDEX ON sessions (expiry);

-- What people did that is not about one site.
CREATE TABLE team_history (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  who text NOT NULL,
  text text NOT NULL,
  at timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE team_history, sessions, sign_in_failures, tokens, invitations, people, onboardings, parities, backups, exports, manual_tasks, bundles,
  blobs, history, addresses, policies, exclusion_events, exclusions, drifts, marks, findings, looks, acts, runs, changes, revisions, environments, sites;
