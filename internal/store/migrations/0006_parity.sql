-- +goose Up
-- In what a site's first and last environment differ, as last compared.
CREATE TABLE parities (
  site_id bigint PRIMARY KEY REFERENCES sites ON DELETE CASCADE,
  document jsonb NOT NULL,
  who text NOT NULL,
  at timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE parities;
