-- +goose Up
-- Where an answer of a search was looked for; null: everywhere. What did not show there may show elsewhere.
ALTER TABLE search_answers ADD COLUMN looked jsonb;

-- +goose Down
ALTER TABLE search_answers DROP COLUMN looked;
