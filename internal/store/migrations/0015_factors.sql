-- +goose Up
-- What people prove that they are themselves with, beside a password.
CREATE TABLE factors (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  kind text NOT NULL,
  name text NOT NULL,
  secret text NOT NULL, -- of a code app: what codes are made of, sealed; of a passkey: its public key and what is known of it
  last_step bigint NOT NULL DEFAULT 0, -- of the last code that was taken: none is taken twice
  confirmed boolean NOT NULL DEFAULT false, -- a code app counts once a code of it was right
  created_at timestamptz NOT NULL DEFAULT now(),
  used_at timestamptz
);
CREATE INDEX ON factors (person_id);
CREATE TABLE recovery_codes (
  person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  code_hash text NOT NULL,
  used_at timestamptz,
  PRIMARY KEY (person_id, code_hash)
);
-- The roles whose people have to have a second factor.
CREATE TABLE required_factors (role text PRIMARY KEY);
-- Who somebody is to a provider of OpenID Connect.
CREATE TABLE identities (
  issuer text NOT NULL,
  subject text NOT NULL,
  person_id bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  created_at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (issuer, subject)
);
CREATE INDEX ON identities (person_id);

-- +goose Down
DROP TABLE identities, required_factors, recovery_codes, factors;
