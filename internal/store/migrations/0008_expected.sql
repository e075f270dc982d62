-- +goose Up
-- What a change is meant to make better, in figures; null when nobody said.
ALTER TABLE changes ADD COLUMN expected jsonb;

-- +goose Down
ALTER TABLE changes DROP COLUMN expected;
