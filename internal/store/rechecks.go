package store

import (
	"context"
	"fmt"
	"time"

	"tidemarker/internal/core/exclusion"
)

// RecheckState says what became of a look that was planned for later.
type RecheckState string

// The states.
const (
	RecheckPlanned   RecheckState = "planned"
	RecheckBegun     RecheckState = "begun"     // a run looks, or has looked
	RecheckWithdrawn RecheckState = "withdrawn" // what it was about is no longer so
)

// Recheck is a look that a run planned, when what is cached has grown old.
type Recheck struct {
	ID            int64                  `db:"id"`
	SiteID        int64                  `db:"site_id"`
	EnvironmentID int64                  `db:"environment_id"`
	RunID         int64                  `db:"run_id"`      // that planned it
	Fingerprint   string                 `db:"fingerprint"` // what has to be in force still
	Moment        JSON[exclusion.Moment] `db:"moment"`
	DueAt         time.Time              `db:"due_at"`
	State         RecheckState           `db:"state"`
	RecheckRunID  *int64                 `db:"recheck_run_id"` // that looked
	Why           string                 `db:"why"`            // it was withdrawn
}

const recheckColumns = `id, site_id, environment_id, run_id, fingerprint, moment, due_at, state, recheck_run_id, why`

// PlanRecheck records a recheck. A run plans one for a time once.
func (s *Store) PlanRecheck(ctx context.Context, l Recheck) (id int64, err error) {
	return one[int64](ctx, s, "the recheck", `INSERT INTO rechecks (site_id, environment_id, run_id, fingerprint, moment, due_at) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (run_id, due_at) DO UPDATE SET moment = excluded.moment RETURNING id`, l.SiteID, l.EnvironmentID, l.RunID, l.Fingerprint, l.Moment, l.DueAt)
}

// Recheck reads one, and keeps others from settling it until the transaction ends.
func (s *Store) Recheck(ctx context.Context, id int64) (Recheck, error) {
	return one[Recheck](ctx, s, fmt.Sprintf("recheck %d", id), `SELECT `+recheckColumns+` FROM rechecks WHERE id = $1 FOR UPDATE`, id)
}

// Rechecks lists those that a run planned, the earliest first.
func (s *Store) Rechecks(ctx context.Context, runID int64) ([]Recheck, error) {
	return many[Recheck](ctx, s, "the rechecks", `SELECT `+recheckColumns+` FROM rechecks WHERE run_id = $1 ORDER BY due_at, id`, runID)
}

// SettleRecheck says what became of one that was planned.
func (s *Store) SettleRecheck(ctx context.Context, id int64, state RecheckState, run *int64, why string) error {
	return s.exec(ctx, "the recheck", `UPDATE rechecks SET state = $2, recheck_run_id = $3, why = $4 WHERE id = $1 AND state = 'planned'`, id, state, run, why)
}
