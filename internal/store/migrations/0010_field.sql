-- +goose Up
-- Which sites' visitors tell how fast pages are: the key is part of addresses that pages name, and no secret.
CREATE TABLE field_sources (
  site_id bigint PRIMARY KEY REFERENCES sites ON DELETE CASCADE,
  key text NOT NULL UNIQUE,
  share double precision NOT NULL DEFAULT 1, -- of page views that tell, 0 to 1
  made_by text NOT NULL,
  made_at timestamptz NOT NULL DEFAULT now()
);
-- Page views as they came, for some days: the step of each metric's histogram (core/field), null where it was not measured.
CREATE TABLE visits (
  at timestamptz NOT NULL,
  site_id bigint NOT NULL,
  class text NOT NULL,
  device text NOT NULL,
  lcp smallint,
  inp smallint,
  cls smallint,
  fcp smallint,
  ttfb smallint
) PARTITION BY RANGE (at);
-- What they come to in a day; of what was read from a file only the percentile is known.
CREATE TABLE field_days (
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  day date NOT NULL,
  class text NOT NULL,
  device text NOT NULL,
  metric text NOT NULL,
  source text NOT NULL DEFAULT 'beacon', -- or file
  visits int NOT NULL,
  steps smallint[] NOT NULL DEFAULT '{}',
  counts int[] NOT NULL DEFAULT '{}',
  p75 double precision,
  PRIMARY KEY (site_id, device, metric, source, day, class)
) PARTITION BY HASH (site_id);
CREATE TABLE field_days_0 PARTITION OF field_days FOR VALUES WITH (MODULUS 4, REMAINDER 0);
CREATE TABLE field_days_1 PARTITION OF field_days FOR VALUES WITH (MODULUS 4, REMAINDER 1);
CREATE TABLE field_days_2 PARTITION OF field_days FOR VALUES WITH (MODULUS 4, REMAINDER 2);
CREATE TABLE field_days_3 PARTITION OF field_days FOR VALUES WITH (MODULUS 4, REMAINDER 3);

-- +goose Down
DROP TABLE field_days;
DROP TABLE visits;
DROP TABLE field_sources;
