package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"tidemarker/internal/core/stepup"
)

// StepUp goes up through the bundles on one change.
type StepUp struct {
	ID        int64               `db:"id"`
	SiteID    int64               `db:"site_id"`
	ChangeID  int64               `db:"change_id"`
	StepUp    JSON[stepup.StepUp] `db:"step_up"`
	Opens     JSON[stepup.Window] `db:"opens"`
	MostLooks int                 `db:"most_looks"`
	Waits     string              `db:"waits"` // what it waits for, in words
	StopAsked bool                `db:"stop_asked"`
	Who       string              `db:"who"`
	CreatedAt time.Time           `db:"created_at"`
	OverAt    *time.Time          `db:"over_at"`
}

const stepUpColumns = `id, site_id, change_id, step_up, opens, most_looks, waits, stop_asked, who, created_at, over_at`

// ErrSteppingUp says that a site has a step-up that is not over.
var ErrSteppingUp = errors.New("a step-up is running on this site. Wait for it, or stop it")

// NewStepUp records a step-up; [ErrSteppingUp] while the site has another that is not over.
func (s *Store) NewStepUp(ctx context.Context, c StepUp) (int64, error) {
	id, err := s.insert(ctx, "the step-up", `INSERT INTO step_ups (site_id, change_id, step_up, opens, most_looks, who) VALUES ($1, $2, $3, $4, $5, $6) RETURNING id`,
		c.SiteID, c.ChangeID, c.StepUp, c.Opens, c.MostLooks, c.Who)
	if pg, is := errors.AsType[*pgconn.PgError](err); is && pg.ConstraintName == "step_ups_open" {
		return 0, ErrSteppingUp
	}
	return id, err
}

// OpenStepUps are the step-ups that are not over.
func (s *Store) OpenStepUps(ctx context.Context) ([]int64, error) {
	return many[int64](ctx, s, "the step-ups", `SELECT id FROM step_ups WHERE over_at IS NULL ORDER BY id`)
}

// TakeStepUp reads a step-up and keeps it from others until the transaction ends; [ErrNotFound] when
// somebody else has it now, or it is over.
func (s *Store) TakeStepUp(ctx context.Context, id int64) (StepUp, error) {
	return one[StepUp](ctx, s, fmt.Sprintf("step-up %d", id), `SELECT `+stepUpColumns+` FROM step_ups WHERE id = $1 AND over_at IS NULL FOR UPDATE SKIP LOCKED`, id)
}

// StepUpOf is the newest step-up on a change.
func (s *Store) StepUpOf(ctx context.Context, changeID int64) (StepUp, error) {
	return one[StepUp](ctx, s, "a step-up on the change", `SELECT `+stepUpColumns+` FROM step_ups WHERE change_id = $1 ORDER BY id DESC LIMIT 1`, changeID)
}

// SaveStepUp records how a step-up stands.
func (s *Store) SaveStepUp(ctx context.Context, c StepUp) error {
	return s.exec(ctx, "the step-up", `UPDATE step_ups SET step_up = $2, waits = $3, over_at = CASE WHEN $4 THEN now() END WHERE id = $1`, c.ID, c.StepUp, c.Waits, c.StepUp.V.Phase == stepup.Over)
}

// WishStepUpStopped asks the open step-up on a change to end; [ErrNotFound] when there is none.
func (s *Store) WishStepUpStopped(ctx context.Context, changeID int64) (StepUp, error) {
	return one[StepUp](ctx, s, "a step-up that is not over", `UPDATE step_ups SET stop_asked = true WHERE change_id = $1 AND over_at IS NULL RETURNING `+stepUpColumns, changeID)
}

// LooksMade is how many looks at pages and journeys a run made, second looks and controls included.
func (s *Store) LooksMade(ctx context.Context, run int64) (int, error) {
	return one[int](ctx, s, "the looks", `SELECT count(*) FROM looks WHERE run_id = $1 AND kind IN ('page', 'journey')`, run)
}
