-- +goose Up
-- The history as a chain: each entry has the hash of the one before it in its own. A site's history is a chain of its own, so that a site can be
-- removed; what is about no site is scope 0.
CREATE TABLE history_chain (
  scope bigint NOT NULL, -- the site; 0: team_history
  seq bigint NOT NULL, -- 1, 2, 3 …
  entry bigint NOT NULL, -- of history, or team_history
  hash bytea NOT NULL,
  PRIMARY KEY (scope, seq),
  UNIQUE (scope, entry)
);

-- What is hashed: the hash before it, and the entry as netstrings (as internal/core/audit does it).
-- +goose StatementBegin
CREATE FUNCTION history_hash(before bytea, scope bigint, entry bigint, change_id bigint, run_id bigint, kind text, text text, who text, at timestamptz) RETURNS bytea LANGUAGE sql IMMUTABLE AS $$
  SELECT sha256(before || string_agg(convert_to(octet_length(v) || ':' || v || ',', 'UTF8'), ''::bytea ORDER BY n))
  FROM unnest(ARRAY[scope::text, entry::text, coalesce(change_id::text, ''), coalesce(run_id::text, ''), kind, text, who,
    to_char(at AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"')]) WITH ORDINALITY AS f(v, n)
$$;
-- +goose StatementEnd

-- Entries are chained when their transaction is committed: the lock of a chain is the last that is taken, and held for that alone.
-- +goose StatementBegin
CREATE FUNCTION chain_history() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
  of_scope bigint := 0;
  last_seq bigint;
  last_hash bytea;
  e record;
BEGIN
  IF TG_TABLE_NAME = 'history' THEN
    of_scope := NEW.site_id;
    SELECT NEW.id AS id, NEW.change_id AS change_id, NEW.run_id AS run_id, NEW.kind AS kind, NEW.text AS text, NEW.who AS who, NEW.at AS at INTO e;
    IF NOT EXISTS (SELECT 1 FROM history WHERE id = NEW.id) THEN
      RETURN NULL; -- its site was removed in the same transaction
    END IF;
  ELSE
    SELECT NEW.id AS id, NULL::bigint AS change_id, NULL::bigint AS run_id, 'team' AS kind, NEW.text AS text, NEW.who AS who, NEW.at AS at INTO e;
  END IF;
  PERFORM pg_advisory_xact_lock(hashtext('tidemarker history'), (of_scope % 2147483647)::int);
  IF EXISTS (SELECT 1 FROM history_chain WHERE scope = of_scope AND entry = e.id) THEN
    RETURN NULL; -- read in from a backup together with its place
  END IF;
  SELECT seq, hash INTO last_seq, last_hash FROM history_chain WHERE scope = of_scope ORDER BY seq DESC LIMIT 1;
  INSERT INTO history_chain VALUES (of_scope, coalesce(last_seq, 0) + 1, e.id,
    history_hash(coalesce(last_hash, ''::bytea), of_scope, e.id, e.change_id, e.run_id, e.kind, e.text, e.who, e.at));
  RETURN NULL;
END
$$;
-- +goose StatementEnd

-- What was recorded stays as it is: removing a site takes its history along, nothing else changes any.
-- +goose StatementBegin
CREATE FUNCTION keep_history() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP = 'DELETE' AND pg_trigger_depth() > 1 THEN
    RETURN OLD; -- its site is being removed
  END IF;
  IF TG_OP = 'UPDATE' AND pg_trigger_depth() > 1 AND (to_jsonb(OLD) - 'environment_id') = (to_jsonb(NEW) - 'environment_id') THEN
    RETURN NEW; -- its environment is
  END IF;
  RAISE EXCEPTION 'the history is a record: nothing of it is changed or removed (%, %)', TG_OP, TG_TABLE_NAME;
END
$$;
-- +goose StatementEnd

-- Removing a site removes its chain.
-- +goose StatementBegin
CREATE FUNCTION end_chain() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  DELETE FROM history_chain WHERE scope = OLD.id;
  RETURN NULL;
END
$$;
-- +goose StatementEnd

-- What has been recorded so far is chained in its order.
INSERT INTO history_chain
WITH RECURSIVE entries AS (
  SELECT site_id AS scope, id, change_id, run_id, kind, text, who, at, row_number() OVER (PARTITION BY site_id ORDER BY id) AS seq FROM history
  UNION ALL SELECT 0, id, NULL, NULL, 'team', text, who, at, row_number() OVER (ORDER BY id) FROM team_history
), numbered AS MATERIALIZED (SELECT * FROM entries), chained AS (
  SELECT scope, seq, id, history_hash(''::bytea, scope, id, change_id, run_id, kind, text, who, at) AS hash FROM numbered WHERE seq = 1
  UNION ALL
  SELECT n.scope, n.seq, n.id, history_hash(c.hash, n.scope, n.id, n.change_id, n.run_id, n.kind, n.text, n.who, n.at) FROM chained c JOIN numbered n ON n.scope = c.scope AND n.seq = c.seq + 1
)
SELECT scope, seq, id, hash FROM chained;

CREATE CONSTRAINT TRIGGER history_chained AFTER INSERT ON history DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION chain_history();
CREATE CONSTRAINT TRIGGER team_history_chained AFTER INSERT ON team_history DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION chain_history();
CREATE TRIGGER history_kept BEFORE UPDATE OR DELETE ON history FOR EACH ROW EXECUTE FUNCTION keep_history();
CREATE TRIGGER team_history_kept BEFORE UPDATE OR DELETE ON team_history FOR EACH ROW EXECUTE FUNCTION keep_history();
CREATE TRIGGER history_chain_kept BEFORE UPDATE OR DELETE ON history_chain FOR EACH ROW EXECUTE FUNCTION keep_history();
CREATE TRIGGER history_not_emptied BEFORE TRUNCATE ON history EXECUTE FUNCTION keep_history();
CREATE TRIGGER team_history_not_emptied BEFORE TRUNCATE ON team_history EXECUTE FUNCTION keep_history();
CREATE TRIGGER history_chain_not_emptied BEFORE TRUNCATE ON history_chain EXECUTE FUNCTION keep_history();
CREATE TRIGGER site_chain_ends AFTER DELETE ON sites FOR EACH ROW EXECUTE FUNCTION end_chain();

-- +goose Down
DROP TRIGGER site_chain_ends ON sites;
DROP TRIGGER history_chained ON history;
DROP TRIGGER history_kept ON history;
DROP TRIGGER history_not_emptied ON history;
DROP TRIGGER team_history_chained ON team_history;
DROP TRIGGER team_history_kept ON team_history;
DROP TRIGGER team_history_not_emptied ON team_history;
DROP TABLE history_chain;
DROP FUNCTION chain_history, keep_history, end_chain, history_hash;
