-- +goose Up
-- Since when a run's looks, loads and pictures are gone, as its site says; the run, its report and its findings stay.
ALTER TABLE runs ADD COLUMN evidence_gone_at timestamptz;
CREATE INDEX runs_evidence ON runs (site_id, finished_at) WHERE evidence_gone_at IS NULL;

-- Which runs need which blobs. What nothing refers to is removed.
CREATE TABLE blob_references (
  sha256 text NOT NULL,
  run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
  personal boolean NOT NULL, -- of a page as a persona was shown it
  PRIMARY KEY (sha256, run_id, personal)
);
CREATE INDEX ON blob_references (run_id);

-- Whatever names a blob is a reference to it, wherever in a document it stands.
-- +goose StatementBegin
CREATE FUNCTION refer(document text, run bigint, personal boolean) RETURNS void LANGUAGE sql AS $$
  INSERT INTO blob_references (sha256, run_id, personal)
  SELECT DISTINCT b.sha256, run, personal FROM regexp_matches(document, '[0-9a-f]{64}', 'g') m JOIN blobs b ON b.sha256 = m[1]
  ON CONFLICT DO NOTHING
$$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION look_refers() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN PERFORM refer(NEW.document::text, NEW.run_id, NEW.persona <> 'visitor'); RETURN NULL; END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION load_refers() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN PERFORM refer(NEW.document::text, NEW.run_id, false); RETURN NULL; END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION mark_refers() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN PERFORM refer(NEW.probes::text, NEW.run_id, true); RETURN NULL; END $$;
-- +goose StatementEnd
CREATE TRIGGER refers AFTER INSERT ON looks FOR EACH ROW EXECUTE FUNCTION look_refers();
CREATE TRIGGER refers AFTER INSERT ON loads FOR EACH ROW EXECUTE FUNCTION load_refers();
CREATE TRIGGER refers AFTER INSERT ON marks FOR EACH ROW EXECUTE FUNCTION mark_refers();

INSERT INTO blob_references (sha256, run_id, personal) SELECT DISTINCT b.sha256, l.run_id, l.persona <> 'visitor'
  FROM looks l, regexp_matches(l.document::text, '[0-9a-f]{64}', 'g') m JOIN blobs b ON b.sha256 = m[1] ON CONFLICT DO NOTHING;
INSERT INTO blob_references (sha256, run_id, personal) SELECT DISTINCT b.sha256, l.run_id, false
  FROM loads l, regexp_matches(l.document::text, '[0-9a-f]{64}', 'g') m JOIN blobs b ON b.sha256 = m[1] ON CONFLICT DO NOTHING;
INSERT INTO blob_references (sha256, run_id, personal) SELECT DISTINCT b.sha256, k.run_id, true
  FROM marks k, regexp_matches(k.probes::text, '[0-9a-f]{64}', 'g') m JOIN blobs b ON b.sha256 = m[1] ON CONFLICT DO NOTHING;

-- +goose Down
DROP TRIGGER refers ON looks;
DROP TRIGGER refers ON loads;
DROP TRIGGER refers ON marks;
DROP FUNCTION look_refers, load_refers, mark_refers, refer;
DROP TABLE blob_references;
ALTER TABLE runs DROP COLUMN evidence_gone_at;
