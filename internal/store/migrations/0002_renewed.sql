-- +goose Up
-- Parts of a mark's evidence that were looked at anew because the site itself had moved on.
ALTER TABLE marks ADD COLUMN renewed jsonb NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE marks DROP COLUMN renewed;
