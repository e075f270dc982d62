-- +goose Up
-- How promotions are watched after they were made.
CREATE TABLE watches (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  environment_id bigint NOT NULL REFERENCES environments ON DELETE CASCADE,
  change_id bigint NOT NULL REFERENCES changes ON DELETE CASCADE,
  run_id bigint NOT NULL UNIQUE REFERENCES runs ON DELETE CASCADE, -- the promotion
  fingerprint text NOT NULL, -- what was promoted
  state text NOT NULL, -- watch.State
  why text NOT NULL DEFAULT '', -- it is in that state
  begun_at timestamptz NOT NULL,
  ends_at timestamptz NOT NULL,
  kept jsonb NOT NULL DEFAULT '[]', -- what browsers kept that were there: []httpcache.Stored
  next_id bigint REFERENCES watches ON DELETE SET NULL, -- that took it over
  back_at timestamptz, -- when the change goes back by itself, which is announced
  back_why text NOT NULL DEFAULT '',
  back_refused text NOT NULL DEFAULT '', -- who said no, or why it could not go back
  back_run_id bigint REFERENCES runs ON DELETE SET NULL -- that rolled it back
);
CREATE INDEX watches_site ON watches (site_id, id);
CREATE INDEX watches_change ON watches (change_id);
CREATE INDEX watches_open ON watches (environment_id) WHERE state IN ('watching', 'waits for a person');

CREATE TABLE watch_looks (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  watch_id bigint NOT NULL REFERENCES watches ON DELETE CASCADE,
  look jsonb NOT NULL, -- watch.Look
  due_at timestamptz NOT NULL,
  try_at timestamptz NOT NULL, -- when it is made, or made once more
  tries int NOT NULL DEFAULT 0,
  state text NOT NULL, -- watch.LookState
  why text NOT NULL DEFAULT '',
  run_id bigint REFERENCES runs ON DELETE SET NULL,
  staging_run_id bigint REFERENCES runs ON DELETE SET NULL, -- that looked at staging, since something was found
  held jsonb NOT NULL DEFAULT '[]' -- []watch.Held
);
CREATE INDEX watch_looks_watch ON watch_looks (watch_id, due_at);
CREATE INDEX watch_looks_due ON watch_looks (try_at) WHERE state IN ('planned', 'under way');
CREATE INDEX watch_looks_run ON watch_looks (run_id);

-- +goose StatementBegin
CREATE FUNCTION watch_refers() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN PERFORM refer(NEW.kept::text, NEW.run_id, false); RETURN NULL; END $$;
-- +goose StatementEnd
CREATE TRIGGER refers AFTER INSERT ON watches FOR EACH ROW EXECUTE FUNCTION watch_refers();

-- +goose Down
DROP TABLE watch_looks, watches;
DROP FUNCTION watch_refers;
