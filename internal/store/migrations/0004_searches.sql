-- +goose Up
-- Searches for what in a change breaks a site: each is a run, about what another run found.
CREATE TABLE searches (
  run_id bigint PRIMARY KEY REFERENCES runs ON DELETE CASCADE,
  of_run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE, -- that found it
  base text NOT NULL, -- the settings before the change
  problem jsonb NOT NULL, -- its parts, what they need, how suspect each is
  step jsonb NOT NULL DEFAULT '{}', -- how the search stands
  exclusions jsonb NOT NULL DEFAULT '[]', -- the search for the fewest exclusions of each culprit
  enough boolean NOT NULL DEFAULT false -- somebody takes what is known
);

-- What trying some parts of the change came to. None is tried twice.
CREATE TABLE search_answers (
  run_id bigint NOT NULL REFERENCES searches ON DELETE CASCADE,
  ordinal int NOT NULL,
  excluding int NOT NULL DEFAULT -1, -- which search for exclusions it is of; -1 for the culprit
  parts jsonb NOT NULL, -- of the change, or candidates that are excluded
  fingerprint text NOT NULL,
  outcome text NOT NULL, -- passes, fails, undecided
  rest boolean NOT NULL DEFAULT false, -- looked at everywhere: all but the culprits found so far, or with exclusions
  findings jsonb NOT NULL DEFAULT '[]', -- fingerprints of what showed
  shown int NOT NULL DEFAULT 0, -- rounds of looks that showed it
  rounds int NOT NULL DEFAULT 0,
  from_run_id bigint REFERENCES runs ON DELETE SET NULL, -- an earlier run that knew
  why text NOT NULL DEFAULT '', -- it could not be decided
  seconds double precision NOT NULL DEFAULT 0,
  PRIMARY KEY (run_id, ordinal)
);

-- +goose Down
DROP TABLE search_answers;
DROP TABLE searches;
