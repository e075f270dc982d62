-- +goose Up
-- What lies in an object store instead has no bytes here.
ALTER TABLE blobs ALTER COLUMN bytes DROP NOT NULL;
-- Objects whose rows are gone: they are removed once nobody can be about to put them in again.
CREATE TABLE objects_gone (
  sha256 text PRIMARY KEY,
  gone_at timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE objects_gone;
ALTER TABLE blobs ALTER COLUMN bytes SET NOT NULL;
