-- +goose Up
-- Test edits that are published and not taken back yet, of which there are hardly ever any.
CREATE INDEX runs_editing ON runs (environment_id) WHERE progress->>'editing' <> '';

-- +goose Down
DROP INDEX runs_editing;
