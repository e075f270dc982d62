-- +goose Up
CREATE TABLE people (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name text NOT NULL,
  password text NOT NULL, -- argon2id, with its salt and costs
  role text NOT NULL,
  disabled boolean NOT NULL DEFAULT false,
  epoch int NOT NULL DEFAULT 1, -- sessions of an earlier one are over
  created_at timestamptz NOT NULL DEFAULT now(),
  seen_at timestamptz
);
CREATE UNIQUE INDEX people_name ON people (lower(name));

CREATE TABLE invitations (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  secret_hash text NOT NULL UNIQUE,
  role text NOT NULL,
  person_id bigint REFERENCES people ON DELETE CASCADE, -- who gets a new password; NULL for somebody new
  note text NOT NULL DEFAULT '',
  invited_by text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  expires_at timestamptz NOT NULL,
  used_at timestamptz,
  used_by text NOT NULL DEFAULT ''
);

CREATE TABLE tokens (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  secret_hash text NOT NULL UNIQUE,
  name text NOT NULL,
  most text NOT NULL, -- it never may more than this role
  created_at timestamptz NOT NULL DEFAULT now(),
  expires_at timestamptz,
  used_at timestamptz,
  revoked_at timestamptz
);

CREATE TABLE sign_in_failures (
  name text NOT NULL,
  at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON sign_in_failures (name, at);

-- As the session store wants it.
CREATE TABLE sessions (
  token text PRIMARY KEY,
  data bytea NOT NULL,
  expiry timestamptz NOT NULL
);
CREATE INDEX ON sessions (expiry);

-- What people did that is not about one site.
CREATE TABLE team_history (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  who text NOT NULL,
  text text NOT NULL,
  at timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE team_history, sessions, sign_in_failures, tokens, invitations, people;
