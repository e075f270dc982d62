-- +goose Up
-- Backups that somebody says there are, before something deletes data.
CREATE TABLE backups (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  environment_id bigint NOT NULL REFERENCES environments ON DELETE CASCADE,
  place text NOT NULL,
  who text NOT NULL,
  at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON backups (environment_id, id DESC);

-- +goose Down
DROP TABLE backups;
