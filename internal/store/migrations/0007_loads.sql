-- +goose Up
-- Page loads that were measured, one row each.
CREATE TABLE loads (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
  round int NOT NULL,
  document jsonb NOT NULL -- measure.Load
);
CREATE INDEX loads_run ON loads (run_id, round);

-- +goose Down
DROP TABLE loads;
