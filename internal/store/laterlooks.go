package store

import (
	"context"
	"fmt"
	"time"

	"tidemarker/internal/core/exclusion"
)

// LaterState says what became of a look that was planned for later.
type LaterState string

// The states.
const (
	LaterPlanned   LaterState = "planned"
	LaterBegun     LaterState = "begun"     // a run looks, or has looked
	LaterWithdrawn LaterState = "withdrawn" // what it was about is no longer so
)

// LaterLook is a look that a run planned, when what is cached has grown old.
type LaterLook struct {
	ID            int64                  `db:"id"`
	SiteID        int64                  `db:"site_id"`
	EnvironmentID int64                  `db:"environment_id"`
	RunID         int64                  `db:"run_id"`      // that planned it
	Fingerprint   string                 `db:"fingerprint"` // what has to be in force still
	Moment        JSON[exclusion.Moment] `db:"moment"`
	DueAt         time.Time              `db:"due_at"`
	State         LaterState             `db:"state"`
	LaterRunID    *int64                 `db:"later_run_id"` // that looked
	Why           string                 `db:"why"`          // it was withdrawn
}

const laterColumns = `id, site_id, environment_id, run_id, fingerprint, moment, due_at, state, later_run_id, why`

// PlanLater records a look for later. A run plans one for a time once.
func (s *Store) PlanLater(ctx context.Context, l LaterLook) (id int64, err error) {
	return one[int64](ctx, s, "the look for later", `INSERT INTO later_looks (site_id, environment_id, run_id, fingerprint, moment, due_at) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (run_id, due_at) DO UPDATE SET moment = excluded.moment RETURNING id`, l.SiteID, l.EnvironmentID, l.RunID, l.Fingerprint, l.Moment, l.DueAt)
}

// LaterLook reads one, and keeps others from settling it until the transaction ends.
func (s *Store) LaterLook(ctx context.Context, id int64) (LaterLook, error) {
	return one[LaterLook](ctx, s, fmt.Sprintf("look for later %d", id), `SELECT `+laterColumns+` FROM later_looks WHERE id = $1 FOR UPDATE`, id)
}

// LaterLooks lists those that a run planned, the earliest first.
func (s *Store) LaterLooks(ctx context.Context, runID int64) ([]LaterLook, error) {
	return many[LaterLook](ctx, s, "the looks for later", `SELECT `+laterColumns+` FROM later_looks WHERE run_id = $1 ORDER BY due_at, id`, runID)
}

// SettleLater says what became of one that was planned.
func (s *Store) SettleLater(ctx context.Context, id int64, state LaterState, run *int64, why string) error {
	return s.exec(ctx, "the look for later", `UPDATE later_looks SET state = $2, later_run_id = $3, why = $4 WHERE id = $1 AND state = 'planned'`, id, state, run, why)
}
