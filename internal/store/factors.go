package store

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"tidemarker/internal/core/people"
)

// Factor is something that somebody proves that they are themselves with, beside a password.
type Factor struct {
	ID        int64             `db:"id"`
	PersonID  int64             `db:"person_id"`
	Kind      people.FactorKind `db:"kind"`
	Name      string            `db:"name"`
	Secret    string            `db:"secret"` // what a code app makes codes of, open; what is known of a passkey, as JSON
	LastStep  int64             `db:"last_step"`
	Confirmed bool              `db:"confirmed"`
	CreatedAt time.Time         `db:"created_at"`
	UsedAt    *time.Time        `db:"used_at"`
}

// Factors are those of a person that count, in the order in which they came.
func (s *Store) Factors(ctx context.Context, person int64) ([]Factor, error) {
	list, err := many[Factor](ctx, s, "the factors", `SELECT `+columns[Factor]("")+` FROM factors WHERE person_id = $1 AND confirmed ORDER BY id`, person)
	for i := range list {
		if err == nil {
			list[i], err = s.openedFactor(list[i])
		}
	}
	return list, err
}

// Unconfirmed is a code app of a person of which no code has been right yet.
func (s *Store) Unconfirmed(ctx context.Context, person, id int64) (Factor, error) {
	f, err := one[Factor](ctx, s, "the code app", `SELECT `+columns[Factor]("")+` FROM factors WHERE id = $1 AND person_id = $2 AND NOT confirmed`, id, person)
	if err != nil {
		return f, err
	}
	return s.openedFactor(f)
}

func (s *Store) openedFactor(f Factor) (Factor, error) {
	if f.Kind != people.CodeApp {
		return f, nil
	}
	text, err := s.keys.Open(f.Secret)
	if err != nil {
		return f, fmt.Errorf("the code app %q: %w", f.Name, err)
	}
	f.Secret = text
	return f, nil
}

// BeginCodeApp keeps a code app that does not count yet, in place of others that do not.
func (s *Store) BeginCodeApp(ctx context.Context, person int64, name, secret string) (id int64, err error) {
	sealed, err := s.keys.Seal(secret)
	if err != nil {
		return 0, err
	}
	err = s.Within(ctx, func(s *Store) error {
		if err := s.exec(ctx, "a code app", `DELETE FROM factors WHERE person_id = $1 AND NOT confirmed`, person); err != nil {
			return err
		}
		id, err = s.insert(ctx, "a code app", `INSERT INTO factors (person_id, kind, name, secret) VALUES ($1, $2, $3, $4) RETURNING id`, person, people.CodeApp, name, sealed)
		return err
	})
	return id, err
}

// AddPasskey keeps a passkey.
func (s *Store) AddPasskey(ctx context.Context, person int64, name string, credential []byte) (int64, error) {
	return s.insert(ctx, "a passkey", `INSERT INTO factors (person_id, kind, name, secret, confirmed) VALUES ($1, $2, $3, $4, true) RETURNING id`, person, people.Passkey, name, string(credential))
}

// UsePasskey keeps what is known of a passkey after it was used.
func (s *Store) UsePasskey(ctx context.Context, id int64, credential []byte) error {
	return s.exec(ctx, "a passkey", `UPDATE factors SET secret = $2, used_at = now() WHERE id = $1`, id, string(credential))
}

// ErrCodeUsed says that a code was taken before.
var ErrCodeUsed = errors.New("this code was used already; wait for the next")

// UseStep notes that the code of a step of time was taken, and with the first that the code app
// counts; ErrCodeUsed when that one, or a later one, was taken before.
func (s *Store) UseStep(ctx context.Context, id, step int64) error {
	_, err := one[int64](ctx, s, "a code", `UPDATE factors SET last_step = $2, used_at = now(), confirmed = true WHERE id = $1 AND last_step < $2 RETURNING id`, id, step)
	if errors.Is(err, ErrNotFound) {
		return ErrCodeUsed
	}
	return err
}

// RemoveFactor takes a factor of a person away, and with the last one their recovery codes.
func (s *Store) RemoveFactor(ctx context.Context, person, id int64) error {
	return s.Within(ctx, func(s *Store) error {
		if _, err := one[int64](ctx, s, fmt.Sprintf("factor %d", id), `DELETE FROM factors WHERE id = $1 AND person_id = $2 RETURNING id`, id, person); err != nil {
			return err
		}
		return s.exec(ctx, "the recovery codes", `DELETE FROM recovery_codes WHERE person_id = $1 AND NOT EXISTS (SELECT FROM factors WHERE person_id = $1 AND confirmed)`, person)
	})
}

// ResetFactors takes all factors of a person away, and ends their sessions: for who has lost them.
func (s *Store) ResetFactors(ctx context.Context, person int64) error {
	return s.Within(ctx, func(s *Store) error {
		return errors.Join(s.exec(ctx, "the factors", `DELETE FROM factors WHERE person_id = $1`, person),
			s.exec(ctx, "the recovery codes", `DELETE FROM recovery_codes WHERE person_id = $1`, person),
			s.exec(ctx, "the sessions", `UPDATE people SET epoch = epoch + 1 WHERE id = $1`, person))
	})
}

// FactorCounts is how many factors each person has.
func (s *Store) FactorCounts(ctx context.Context) (map[int64]int, error) {
	type row struct {
		PersonID int64 `db:"person_id"`
		N        int   `db:"n"`
	}
	rows, err := many[row](ctx, s, "the factors", `SELECT person_id, count(*) AS n FROM factors WHERE confirmed GROUP BY person_id`)
	out := map[int64]int{}
	for _, r := range rows {
		out[r.PersonID] = r.N
	}
	return out, err
}

// recoveryCodes is how many codes somebody gets for the day on which they have nothing else.
const recoveryCodes = 10

// NewRecoveryCodes makes a person's recovery codes anew and returns them; only hashes are kept.
func (s *Store) NewRecoveryCodes(ctx context.Context, person int64) (codes []string, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM recovery_codes WHERE person_id = $1`, person); err != nil {
			return err
		}
		for range recoveryCodes {
			code := people.WrittenCode(rand.Text()[:people.RecoveryLength])
			if _, err := tx.ExecContext(ctx, `INSERT INTO recovery_codes (person_id, code_hash) VALUES ($1, $2)`, person, secretHash(people.ReadCode(code))); err != nil {
				return err
			}
			codes = append(codes, code)
		}
		return nil
	})
	return codes, err
}

// UseRecoveryCode uses one of a person's recovery codes up; ErrNotFound when it is none, or was used.
func (s *Store) UseRecoveryCode(ctx context.Context, person int64, code string) error {
	_, err := one[int64](ctx, s, "that code", `UPDATE recovery_codes SET used_at = now() WHERE person_id = $1 AND code_hash = $2 AND used_at IS NULL RETURNING person_id`, person, secretHash(people.ReadCode(code)))
	return err
}

// RecoveryCodesLeft is how many recovery codes a person can still use.
func (s *Store) RecoveryCodesLeft(ctx context.Context, person int64) (int, error) {
	return one[int](ctx, s, "the recovery codes", `SELECT count(*) FROM recovery_codes WHERE person_id = $1 AND used_at IS NULL`, person)
}

// RequiredFactors are the roles whose people have to have a second factor.
func (s *Store) RequiredFactors(ctx context.Context) ([]people.Role, error) {
	return many[people.Role](ctx, s, "the required factors", `SELECT role FROM required_factors ORDER BY role`)
}

// EntryOf is what a person has to do after their password was right.
func (s *Store) EntryOf(ctx context.Context, p Person) (people.Entry, error) {
	type row struct {
		Factors  int                 `db:"factors"`
		Required JSON[[]people.Role] `db:"required"`
	}
	r, err := one[row](ctx, s, "what somebody has to prove", `SELECT (SELECT count(*) FROM factors WHERE person_id = $1 AND confirmed) AS factors,
		coalesce((SELECT jsonb_agg(role) FROM required_factors), '[]') AS required`, p.ID)
	return people.EntryOf(p.Role, r.Factors, r.Required.V), err
}

// RequireFactors says of which roles people have to have a second factor.
func (s *Store) RequireFactors(ctx context.Context, roles []people.Role) error {
	return s.Within(ctx, func(s *Store) error {
		return errors.Join(s.exec(ctx, "the required factors", `DELETE FROM required_factors`),
			s.exec(ctx, "the required factors", `INSERT INTO required_factors SELECT DISTINCT unnest($1::text[])`, roles))
	})
}

// Identified is the person whom a provider knows by a subject; ErrNotFound when it is nobody's.
func (s *Store) Identified(ctx context.Context, issuer, subject string) (Person, error) {
	id, err := one[int64](ctx, s, "that identity", `SELECT person_id FROM identities WHERE issuer = $1 AND subject = $2`, issuer, subject)
	if err != nil {
		return Person{}, err
	}
	return s.Person(ctx, id)
}

// AddIdentified puts somebody in whom a provider knows; they have no password. ErrNameTaken when the
// name is not free.
func (s *Store) AddIdentified(ctx context.Context, issuer, subject, name string, role people.Role) (id int64, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		if id, err = addPerson(ctx, tx, name, "", role); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO identities (issuer, subject, person_id) VALUES ($1, $2, $3)`, issuer, subject, id)
		return err
	})
	return id, err
}
