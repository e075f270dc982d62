package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"tidemarker/internal/core/settings"
)

// Bundle is a team's own bundle.
type Bundle struct {
	ID      int64                 `db:"id"`
	Name    string                `db:"name"`
	Summary string                `db:"summary"`
	Wishes  JSON[[]settings.Wish] `db:"wishes"`
	MadeBy  string                `db:"made_by"`
	MadeAt  time.Time             `db:"made_at"`
}

// AddBundle keeps a bundle; ErrNameTaken when there is one of that name.
func (s *Store) AddBundle(ctx context.Context, b settings.Bundle, who string) (int64, error) {
	id, err := s.insert(ctx, "the bundle", `INSERT INTO bundles (name, summary, wishes, made_by) VALUES ($1, $2, $3, $4) RETURNING id`,
		b.Name, b.Summary, JSON[[]settings.Wish]{b.Wishes}, who)
	if pg, ok := errors.AsType[*pgconn.PgError](err); ok && pg.ConstraintName == "bundles_name_key" {
		return 0, ErrNameTaken
	}
	return id, err
}

// Bundles lists a team's own bundles, by name.
func (s *Store) Bundles(ctx context.Context) ([]Bundle, error) {
	return many[Bundle](ctx, s, "the bundles", `SELECT `+columns[Bundle]("")+` FROM bundles ORDER BY name`)
}

// RemoveBundle removes a bundle; ErrNotFound when there is none of that number.
func (s *Store) RemoveBundle(ctx context.Context, id int64) error {
	_, err := one[int64](ctx, s, fmt.Sprintf("bundle %d", id), `DELETE FROM bundles WHERE id = $1 RETURNING id`, id)
	return err
}
