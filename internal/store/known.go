package store

import (
	"context"
	"errors"
	"fmt"
)

// KnowBrowser notes that somebody has signed in with a browser, and returns the secret by which it is known from then on.
// Of each person the ten used last are remembered.
func (s *Store) KnowBrowser(ctx context.Context, person int64) (secret string, err error) {
	secret, hash := newSecret("")
	return secret, s.Within(ctx, func(s *Store) error {
		return errors.Join(
			s.exec(ctx, "a known browser", `INSERT INTO known_browsers (person_id, secret_hash) VALUES ($1, $2)`, person, hash),
			s.exec(ctx, "known browsers", `DELETE FROM known_browsers WHERE person_id = $1 AND id NOT IN (SELECT id FROM known_browsers WHERE person_id = $1 ORDER BY used_at DESC, id DESC LIMIT 10)`, person))
	})
}

// KnownBrowser is the number of a browser in which the person with a name has signed in before; [ErrNotFound] when it is not
// known, or is somebody else's.
func (s *Store) KnownBrowser(ctx context.Context, secret, name string) (int64, error) {
	if secret == "" {
		return 0, fmt.Errorf("a browser: %w", ErrNotFound)
	}
	return one[int64](ctx, s, "a known browser", `UPDATE known_browsers k SET used_at = now() FROM people p WHERE k.person_id = p.id AND k.secret_hash = $1 AND lower(p.name) = lower($2) RETURNING k.id`, secretHash(secret), name)
}
