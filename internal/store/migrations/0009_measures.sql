-- +goose Up
-- What a measurement measures; null of other runs.
ALTER TABLE runs ADD COLUMN measures jsonb;
-- What a load asked for, one by one: waterfall.Request.
ALTER TABLE loads ADD COLUMN requests jsonb NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE loads DROP COLUMN requests;
ALTER TABLE runs DROP COLUMN measures;
