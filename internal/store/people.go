package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"tidemarker/internal/core/people"
)

// Person is somebody who can sign in.
type Person struct {
	ID        int64       `db:"id"`
	Name      string      `db:"name"`
	Password  string      `db:"password"` // argon2id
	Role      people.Role `db:"role"`
	Disabled  bool        `db:"disabled"`
	Epoch     int         `db:"epoch"`
	CreatedAt time.Time   `db:"created_at"`
	SeenAt    *time.Time  `db:"seen_at"`
}

// Invitation lets somebody choose a password, once: a new person, or one who has
// forgotten theirs.
type Invitation struct {
	ID        int64       `db:"id"`
	Role      people.Role `db:"role"`
	PersonID  *int64      `db:"person_id"`
	Note      string      `db:"note"`
	InvitedBy string      `db:"invited_by"`
	CreatedAt time.Time   `db:"created_at"`
	ExpiresAt time.Time   `db:"expires_at"`
	UsedAt    *time.Time  `db:"used_at"`
	UsedBy    string      `db:"used_by"`
}

// Token lets a program act as a person, with at most a given role.
type Token struct {
	ID        int64       `db:"id"`
	PersonID  int64       `db:"person_id"`
	Name      string      `db:"name"`
	Most      people.Role `db:"most"`
	CreatedAt time.Time   `db:"created_at"`
	ExpiresAt *time.Time  `db:"expires_at"`
	UsedAt    *time.Time  `db:"used_at"`
	RevokedAt *time.Time  `db:"revoked_at"`
}

// TokenPrefix is how tokens begin, so that one that was put where it should not be is
// recognised.
const TokenPrefix = "tide_"

// newSecret is 256 random bits as text, and the SHA-256 by which they are known here.
func newSecret(prefix string) (secret, hash string) {
	raw := make([]byte, 32)
	_, _ = rand.Read(raw) // never fails
	secret = prefix + base64.RawURLEncoding.EncodeToString(raw)
	return secret, secretHash(secret)
}

func secretHash(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

const personColumns = `id, name, password, role, disabled, epoch, created_at, seen_at`

// People are all people by name.
func (s *Store) People(ctx context.Context) ([]Person, error) {
	return many[Person](ctx, s, "the people", `SELECT `+personColumns+` FROM people ORDER BY lower(name)`)
}

// Person is one person.
func (s *Store) Person(ctx context.Context, id int64) (Person, error) {
	return one[Person](ctx, s, fmt.Sprintf("person %d", id), `SELECT `+personColumns+` FROM people WHERE id = $1`, id)
}

// PersonNamed is the person with a sign-in name, letter case ignored.
func (s *Store) PersonNamed(ctx context.Context, name string) (Person, error) {
	return one[Person](ctx, s, "that person", `SELECT `+personColumns+` FROM people WHERE lower(name) = lower($1)`, name)
}

// ErrNameTaken says that somebody has the sign-in name already.
var ErrNameTaken = errors.New("somebody has this sign-in name already; take another")

// AddPerson puts somebody in; ErrNameTaken when the name is not free.
func (s *Store) AddPerson(ctx context.Context, name, passwordHash string, role people.Role) (int64, error) {
	return addPerson(ctx, s.db, name, passwordHash, role)
}

func addPerson(ctx context.Context, q sqlx.QueryerContext, name, passwordHash string, role people.Role) (int64, error) {
	var id []int64
	err := sqlx.SelectContext(ctx, q, &id, `INSERT INTO people (name, password, role) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING RETURNING id`, name, passwordHash, role)
	if err != nil {
		return 0, fmt.Errorf("write a person: %w", err)
	}
	if len(id) == 0 {
		return 0, ErrNameTaken
	}
	return id[0], nil
}

// ErrLastAdministrator says that nobody would be left to administer.
var ErrLastAdministrator = errors.New("nobody else is an administrator; make somebody else one first")

// SavePerson sets a person's role and whether they are kept out. ErrLastAdministrator
// when nobody would be left to administer.
func (s *Store) SavePerson(ctx context.Context, id int64, role people.Role, disabled bool) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		// One after the other, so that two administrators cannot put each other down at once.
		if _, err := tx.ExecContext(ctx, `LOCK TABLE people IN SHARE ROW EXCLUSIVE MODE`); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE people SET role = $2, disabled = $3, epoch = epoch + CASE WHEN $3 THEN 1 ELSE 0 END WHERE id = $1`, id, role, disabled); err != nil {
			return err
		}
		var left int
		if err := tx.GetContext(ctx, &left, `SELECT count(*) FROM people WHERE role = $1 AND NOT disabled`, people.Administrator); err != nil {
			return err
		}
		if left == 0 {
			return ErrLastAdministrator
		}
		return nil
	})
}

// SavePassword sets a person's password and ends all their sessions.
func (s *Store) SavePassword(ctx context.Context, id int64, passwordHash string) error {
	return s.exec(ctx, "a password", `UPDATE people SET password = $2, epoch = epoch + 1 WHERE id = $1`, id, passwordHash)
}

// Saw notes that a person was here, at most once a minute.
func (s *Store) Saw(ctx context.Context, id int64) error {
	return s.exec(ctx, "who was here", `UPDATE people SET seen_at = now() WHERE id = $1 AND (seen_at IS NULL OR seen_at < now() - interval '1 minute')`, id)
}

// NewInvitation keeps an invitation and returns its secret, which is not kept.
func (s *Store) NewInvitation(ctx context.Context, inv Invitation) (secret string, err error) {
	secret, hash := newSecret("")
	return secret, s.exec(ctx, "an invitation", `INSERT INTO invitations (secret_hash, role, person_id, note, invited_by, expires_at) VALUES ($1, $2, $3, $4, $5, $6)`,
		hash, inv.Role, inv.PersonID, inv.Note, inv.InvitedBy, inv.ExpiresAt)
}

const invitationColumns = `id, role, person_id, note, invited_by, created_at, expires_at, used_at, used_by`

// Invitations are those that can still be used.
func (s *Store) Invitations(ctx context.Context) ([]Invitation, error) {
	return many[Invitation](ctx, s, "the invitations", `SELECT `+invitationColumns+` FROM invitations WHERE used_at IS NULL AND expires_at > now() ORDER BY id`)
}

// Invited is the invitation with a secret; ErrNotFound when there is none that can
// still be used.
func (s *Store) Invited(ctx context.Context, secret string) (Invitation, error) {
	return one[Invitation](ctx, s, "an invitation that can still be used",
		`SELECT `+invitationColumns+` FROM invitations WHERE secret_hash = $1 AND used_at IS NULL AND expires_at > now()`, secretHash(secret))
}

// WithdrawInvitation makes an invitation useless.
func (s *Store) WithdrawInvitation(ctx context.Context, id int64) error {
	return s.exec(ctx, "an invitation", `UPDATE invitations SET expires_at = now() WHERE id = $1 AND used_at IS NULL AND expires_at > now()`, id)
}

// Join uses an invitation up: it puts a new person in, or sets the password of the one
// it is for, and ends that one's sessions. ErrNotFound when it cannot be used,
// ErrNameTaken when the name is not free; it can be used again then.
func (s *Store) Join(ctx context.Context, secret, name, passwordHash string) (id int64, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		var got []Invitation
		err := tx.SelectContext(ctx, &got, `UPDATE invitations SET used_at = now(), used_by = $2 WHERE secret_hash = $1 AND used_at IS NULL AND expires_at > now() RETURNING `+invitationColumns,
			secretHash(secret), name)
		if err != nil {
			return err
		}
		if len(got) == 0 {
			return fmt.Errorf("an invitation that can still be used: %w", ErrNotFound)
		}
		if got[0].PersonID == nil {
			id, err = addPerson(ctx, tx, name, passwordHash, got[0].Role)
			return err
		}
		id = *got[0].PersonID
		_, err = tx.ExecContext(ctx, `UPDATE people SET password = $2, epoch = epoch + 1 WHERE id = $1`, id, passwordHash)
		return err
	})
	return id, err
}

// NewToken keeps a token and returns its secret, which is not kept.
func (s *Store) NewToken(ctx context.Context, t Token) (secret string, err error) {
	secret, hash := newSecret(TokenPrefix)
	return secret, s.exec(ctx, "a token", `INSERT INTO tokens (person_id, secret_hash, name, most, expires_at) VALUES ($1, $2, $3, $4, $5)`,
		t.PersonID, hash, t.Name, t.Most, t.ExpiresAt)
}

const tokenColumns = `id, person_id, name, most, created_at, expires_at, used_at, revoked_at`

// Tokens are a person's tokens, the latest first.
func (s *Store) Tokens(ctx context.Context, person int64) ([]Token, error) {
	return many[Token](ctx, s, "the tokens", `SELECT `+tokenColumns+` FROM tokens WHERE person_id = $1 ORDER BY id DESC`, person)
}

// RevokeToken makes a person's token useless; ErrNotFound when it is not theirs.
func (s *Store) RevokeToken(ctx context.Context, person, id int64) error {
	_, err := one[int64](ctx, s, fmt.Sprintf("token %d", id), `UPDATE tokens SET revoked_at = coalesce(revoked_at, now()) WHERE id = $1 AND person_id = $2 RETURNING id`, id, person)
	return err
}

// TokenOf is the token with a secret, and notes that it was used. ErrNotFound when
// there is none that can still be used.
func (s *Store) TokenOf(ctx context.Context, secret string) (Token, error) {
	return one[Token](ctx, s, "a token that can still be used",
		`UPDATE tokens SET used_at = now() WHERE secret_hash = $1 AND revoked_at IS NULL AND (expires_at IS NULL OR expires_at > now()) RETURNING `+tokenColumns, secretHash(secret))
}

// TrySignIn notes a try to sign in under a name, before it is known whether it is
// right, and returns when the earlier ones of the last hour were. Tries are noted one
// after the other, so that many at once are not more than as many in a row.
func (s *Store) TrySignIn(ctx context.Context, name string) (earlier []time.Time, err error) {
	name = strings.ToLower(name)
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock($1, hashtext($2))`, lockSignIn, name); err != nil {
			return err
		}
		if err := tx.SelectContext(ctx, &earlier, `SELECT at FROM sign_in_failures WHERE name = $1 AND at > now() - interval '1 hour'`, name); err != nil {
			return err
		}
		if people.DefaultLockOut.Until(earlier, time.Now()).IsZero() {
			_, err := tx.ExecContext(ctx, `INSERT INTO sign_in_failures (name) VALUES ($1)`, name)
			return err
		}
		return nil
	})
	return earlier, err
}

// SignedIn forgets the tries under a name, and what is old under any.
func (s *Store) SignedIn(ctx context.Context, name string) error {
	return s.exec(ctx, "tries to sign in", `DELETE FROM sign_in_failures WHERE name = lower($1) OR at < now() - interval '1 day'`, name)
}

// TeamEvent is something that somebody did that is not about one site.
type TeamEvent struct {
	ID   int64     `db:"id"`
	Who  string    `db:"who"`
	Text string    `db:"text"`
	At   time.Time `db:"at"`
}

// RecordTeam writes down what somebody did.
func (s *Store) RecordTeam(ctx context.Context, who, text string) error {
	return s.exec(ctx, "the history", `INSERT INTO team_history (who, text) VALUES ($1, $2)`, who, text)
}

// TeamHistory is what people did, the latest first.
func (s *Store) TeamHistory(ctx context.Context, limit int) ([]TeamEvent, error) {
	return many[TeamEvent](ctx, s, "the history", `SELECT id, who, text, at FROM team_history ORDER BY id DESC LIMIT $1`, limit)
}
