-- +goose Up
-- Browsers in which somebody has signed in before: what others try under the name does not lock them out.
CREATE TABLE known_browsers (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  secret_hash text NOT NULL UNIQUE,
  used_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON known_browsers (person_id);

-- +goose Down
DROP TABLE known_browsers;
