-- +goose Up
-- What people accepted for longer than one run: a difference, where it may be, and until when.
CREATE TABLE decisions (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  change_id bigint REFERENCES changes ON DELETE CASCADE, -- for the runs of one change only
  finding_id bigint REFERENCES findings ON DELETE SET NULL, -- the one that it was decided on
  difference jsonb NOT NULL,
  until date, -- its last day; NULL as long as the change lives
  who text NOT NULL,
  why text NOT NULL,
  made_at timestamptz NOT NULL DEFAULT now(),
  ended_at timestamptz,
  ended_by text NOT NULL DEFAULT '',
  CHECK (change_id IS NOT NULL OR until IS NOT NULL)
);
CREATE INDEX ON decisions (site_id) WHERE ended_at IS NULL;
CREATE INDEX ON decisions (finding_id);

-- Looks that a run planned for later, when what is cached has grown old.
CREATE TABLE later_looks (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  environment_id bigint NOT NULL REFERENCES environments ON DELETE CASCADE,
  run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE, -- that planned it
  fingerprint text NOT NULL, -- what has to be in force still
  moment jsonb NOT NULL,
  due_at timestamptz NOT NULL,
  state text NOT NULL DEFAULT 'planned', -- planned, begun, withdrawn
  later_run_id bigint REFERENCES runs ON DELETE SET NULL, -- that looked
  why text NOT NULL DEFAULT '', -- it was withdrawn
  UNIQUE (run_id, due_at)
);
CREATE INDEX ON later_looks (run_id);

-- +goose Down
DROP TABLE later_looks;
DROP TABLE decisions;
