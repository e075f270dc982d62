-- +goose Up
-- What people are told: lines of the history that have a topic. Who gets one, and how, is decided once, soon after.
CREATE TABLE notices (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint NOT NULL REFERENCES sites ON DELETE CASCADE,
  change_id bigint REFERENCES changes ON DELETE CASCADE,
  run_id bigint REFERENCES runs ON DELETE CASCADE,
  finding_id bigint REFERENCES findings ON DELETE SET NULL,
  topic text NOT NULL, -- notice.Topic
  text text NOT NULL,
  who text NOT NULL, -- did what it tells of
  people jsonb, -- names of those whom it is for; NULL: all whom its topic concerns
  at timestamptz NOT NULL DEFAULT now(),
  handed boolean NOT NULL DEFAULT false -- to those who get it, and to webhooks
);
CREATE INDEX notices_to_hand ON notices (id) WHERE NOT handed;

CREATE TABLE notice_choices (
  person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  site_id bigint REFERENCES sites ON DELETE CASCADE, -- NULL: of all sites of which nothing else is said
  topic text NOT NULL,
  how text NOT NULL, -- notice.How
  UNIQUE NULLS NOT DISTINCT (person_id, site_id, topic)
);

CREATE TABLE mails (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  daily boolean NOT NULL,
  state text NOT NULL DEFAULT 'to send', -- to send, sent, failed
  tries int NOT NULL DEFAULT 0,
  next_at timestamptz NOT NULL,
  why text NOT NULL DEFAULT '', -- the last try did not succeed
  notices int NOT NULL,
  made_at timestamptz NOT NULL,
  sent_at timestamptz
);
CREATE INDEX mails_to_send ON mails (next_at) WHERE state = 'to send';
CREATE INDEX mails_person ON mails (person_id, made_at DESC);

CREATE TABLE notice_for (
  person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  notice_id bigint NOT NULL REFERENCES notices ON DELETE CASCADE,
  how text NOT NULL,
  read_at timestamptz,
  mail_id bigint REFERENCES mails ON DELETE SET NULL, -- in which it was sent
  PRIMARY KEY (person_id, notice_id)
);
CREATE INDEX notice_for_notice ON notice_for (notice_id);
CREATE INDEX notice_for_unread ON notice_for (person_id) WHERE read_at IS NULL;
CREATE INDEX notice_for_mail ON notice_for (person_id, how) WHERE mail_id IS NULL AND how IN ('at once', 'daily');
CREATE INDEX notice_for_sent ON notice_for (mail_id) WHERE mail_id IS NOT NULL;

ALTER TABLE people ADD COLUMN mail text NOT NULL DEFAULT '';
ALTER TABLE people ADD COLUMN daily_at text NOT NULL DEFAULT '08:00'; -- by the clock of their zone
ALTER TABLE people ADD COLUMN zone text NOT NULL DEFAULT 'UTC';
ALTER TABLE people ADD COLUMN daily_done timestamptz NOT NULL DEFAULT now(); -- when their daily mail was made last

-- Secret addresses of feeds: the SHA-256 of the secret only.
CREATE TABLE feeds (
  person_id bigint PRIMARY KEY REFERENCES people ON DELETE CASCADE,
  secret text NOT NULL UNIQUE,
  made_at timestamptz NOT NULL DEFAULT now(),
  used_at timestamptz
);

CREATE TABLE webhooks (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  site_id bigint REFERENCES sites ON DELETE CASCADE, -- NULL: of all sites
  address text NOT NULL,
  secret text NOT NULL, -- sealed
  topics jsonb NOT NULL DEFAULT '[]', -- none: all
  paused boolean NOT NULL DEFAULT false,
  version int NOT NULL DEFAULT 1,
  made_by text NOT NULL,
  made_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE deliveries (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  webhook_id bigint NOT NULL REFERENCES webhooks ON DELETE CASCADE,
  notice_id bigint NOT NULL REFERENCES notices ON DELETE CASCADE,
  state text NOT NULL DEFAULT 'to send', -- to send, delivered, failed
  tries int NOT NULL DEFAULT 0,
  next_at timestamptz NOT NULL,
  status int NOT NULL DEFAULT 0, -- of the last answer; 0: there was none
  answer text NOT NULL DEFAULT '', -- its beginning, or why there was none
  tried_at timestamptz,
  UNIQUE (webhook_id, notice_id)
);
CREATE INDEX deliveries_to_send ON deliveries (next_at) WHERE state = 'to send';
CREATE INDEX deliveries_notice ON deliveries (notice_id);

-- +goose Down
DROP TABLE deliveries, webhooks, feeds, notice_for, mails, notice_choices, notices;
ALTER TABLE people DROP COLUMN mail, DROP COLUMN daily_at, DROP COLUMN zone, DROP COLUMN daily_done;
