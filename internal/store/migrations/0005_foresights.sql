-- +goose Up
-- What was foreseen of a run's settings, held against what it found.
CREATE TABLE foresights (
  run_id bigint PRIMARY KEY REFERENCES runs ON DELETE CASCADE,
  record jsonb NOT NULL -- foresight.Record
);

-- +goose Down
DROP TABLE foresights;
