package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"tidemarker/internal/core/climb"
)

// Climb goes up through the bundles on one change.
type Climb struct {
	ID        int64              `db:"id"`
	SiteID    int64              `db:"site_id"`
	ChangeID  int64              `db:"change_id"`
	Climb     JSON[climb.Climb]  `db:"climb"`
	Opens     JSON[climb.Window] `db:"opens"`
	MostLooks int                `db:"most_looks"`
	Waits     string             `db:"waits"` // what it waits for, in words
	StopAsked bool               `db:"stop_asked"`
	Who       string             `db:"who"`
	CreatedAt time.Time          `db:"created_at"`
	OverAt    *time.Time         `db:"over_at"`
}

const climbColumns = `id, site_id, change_id, climb, opens, most_looks, waits, stop_asked, who, created_at, over_at`

// ErrClimbing says that a site has a climb that is not over.
var ErrClimbing = errors.New("a step-up is running on this site. Wait for it, or stop it")

// NewClimb records a climb; [ErrClimbing] while the site has another that is not over.
func (s *Store) NewClimb(ctx context.Context, c Climb) (int64, error) {
	id, err := s.insert(ctx, "the climb", `INSERT INTO climbs (site_id, change_id, climb, opens, most_looks, who) VALUES ($1, $2, $3, $4, $5, $6) RETURNING id`,
		c.SiteID, c.ChangeID, c.Climb, c.Opens, c.MostLooks, c.Who)
	if pg, is := errors.AsType[*pgconn.PgError](err); is && pg.ConstraintName == "climbs_open" {
		return 0, ErrClimbing
	}
	return id, err
}

// OpenClimbs are the climbs that are not over.
func (s *Store) OpenClimbs(ctx context.Context) ([]int64, error) {
	return many[int64](ctx, s, "the climbs", `SELECT id FROM climbs WHERE over_at IS NULL ORDER BY id`)
}

// TakeClimb reads a climb and keeps it from others until the transaction ends; [ErrNotFound] when
// somebody else has it now, or it is over.
func (s *Store) TakeClimb(ctx context.Context, id int64) (Climb, error) {
	return one[Climb](ctx, s, fmt.Sprintf("climb %d", id), `SELECT `+climbColumns+` FROM climbs WHERE id = $1 AND over_at IS NULL FOR UPDATE SKIP LOCKED`, id)
}

// ClimbOf is the newest climb on a change.
func (s *Store) ClimbOf(ctx context.Context, changeID int64) (Climb, error) {
	return one[Climb](ctx, s, "a climb on the change", `SELECT `+climbColumns+` FROM climbs WHERE change_id = $1 ORDER BY id DESC LIMIT 1`, changeID)
}

// SaveClimb records how a climb stands.
func (s *Store) SaveClimb(ctx context.Context, c Climb) error {
	return s.exec(ctx, "the climb", `UPDATE climbs SET climb = $2, waits = $3, over_at = CASE WHEN $4 THEN now() END WHERE id = $1`, c.ID, c.Climb, c.Waits, c.Climb.V.Phase == climb.Over)
}

// WishClimbStopped asks the open climb on a change to end; [ErrNotFound] when there is none.
func (s *Store) WishClimbStopped(ctx context.Context, changeID int64) (Climb, error) {
	return one[Climb](ctx, s, "a climb that is not over", `UPDATE climbs SET stop_asked = true WHERE change_id = $1 AND over_at IS NULL RETURNING `+climbColumns, changeID)
}

// LooksMade is how many looks at pages and journeys a run made, second looks and controls included.
func (s *Store) LooksMade(ctx context.Context, run int64) (int, error) {
	return one[int](ctx, s, "the looks", `SELECT count(*) FROM looks WHERE run_id = $1 AND kind IN ('page', 'journey')`, run)
}
