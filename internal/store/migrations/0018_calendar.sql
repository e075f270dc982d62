-- +goose Up
-- When something may go out to production: freezes and windows of one site, or of all.
CREATE TABLE calendar_entries (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint REFERENCES sites ON DELETE CASCADE, -- NULL: of all sites
  uid text NOT NULL,
  kind text NOT NULL, -- calendar.Kind
  title text NOT NULL,
  begins text NOT NULL, -- calendar.Clock, in its zone
  ends text NOT NULL,
  zone text NOT NULL,
  rule text NOT NULL DEFAULT '',
  except_at jsonb NOT NULL DEFAULT '[]',
  version int NOT NULL DEFAULT 1,
  made_by text NOT NULL,
  made_at timestamptz NOT NULL DEFAULT now(),
  UNIQUE NULLS NOT DISTINCT (site_id, uid)
);

-- Secret addresses to subscribe to calendars: the SHA-256 of the secret only.
CREATE TABLE calendar_addresses (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint UNIQUE NULLS NOT DISTINCT REFERENCES sites ON DELETE CASCADE, -- NULL: of all sites
  secret text NOT NULL UNIQUE,
  made_by text NOT NULL,
  made_at timestamptz NOT NULL DEFAULT now(),
  used_at timestamptz
);

-- What was asked and decided about changes going to production.
CREATE TABLE approvals (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  change_id bigint NOT NULL REFERENCES changes ON DELETE CASCADE,
  state text NOT NULL, -- release.ApprovalState
  fingerprint text NOT NULL, -- of the change
  production text NOT NULL, -- of production
  words text NOT NULL DEFAULT '', -- of who asked
  asked_by text NOT NULL,
  asked_at timestamptz NOT NULL DEFAULT now(),
  decided_by text NOT NULL DEFAULT '',
  decided_at timestamptz,
  reason text NOT NULL DEFAULT '', -- of who decided, or why it was withdrawn
  goes boolean NOT NULL DEFAULT false, -- by itself, once the calendar lets it
  waits text NOT NULL DEFAULT '' -- what it waits for, in words
);
CREATE UNIQUE INDEX approvals_open ON approvals (change_id) WHERE state IN ('asked', 'questioned', 'approved');
CREATE INDEX approvals_change ON approvals (change_id);

CREATE TABLE comments (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  change_id bigint REFERENCES changes ON DELETE CASCADE,
  run_id bigint REFERENCES runs ON DELETE CASCADE,
  finding_id bigint REFERENCES findings ON DELETE SET NULL, -- beside its run
  text text NOT NULL,
  mentions jsonb NOT NULL DEFAULT '[]', -- names of people
  who text NOT NULL,
  at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX comments_change ON comments (change_id) WHERE change_id IS NOT NULL;
CREATE INDEX comments_run ON comments (run_id) WHERE run_id IS NOT NULL;

ALTER TABLE runs ADD COLUMN despite text NOT NULL DEFAULT ''; -- why it goes out although the calendar says no
CREATE INDEX runs_promoted ON runs (created_at) WHERE kind = 'promote';
ALTER TABLE changes ADD COLUMN makers jsonb NOT NULL DEFAULT '[]'; -- who edited it, as people are called

-- +goose Down
ALTER TABLE changes DROP COLUMN makers;
ALTER TABLE runs DROP COLUMN despite;
DROP INDEX runs_promoted;
DROP TABLE comments, approvals, calendar_addresses, calendar_entries;
