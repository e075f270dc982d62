package store

import (
	"context"

	"tidemarker/internal/core/measure"
)

// SaveLoad keeps one page load that was measured.
func (s *Store) SaveLoad(ctx context.Context, run int64, l measure.Load) error {
	return s.exec(ctx, "the load", `INSERT INTO loads (run_id, round, document) VALUES ($1, $2, $3)`, run, l.Round, JSON[measure.Load]{V: l})
}

// Loads are the page loads that a run measured, in the order in which they were made.
func (s *Store) Loads(ctx context.Context, run int64) ([]measure.Load, error) {
	rows, err := many[JSON[measure.Load]](ctx, s, "the loads", `SELECT document FROM loads WHERE run_id = $1 ORDER BY id`, run)
	out := make([]measure.Load, 0, len(rows))
	for _, r := range rows {
		out = append(out, r.V)
	}
	return out, err
}

// DropLoads drops what is there of a round that was cut off.
func (s *Store) DropLoads(ctx context.Context, run int64, round int) error {
	return s.exec(ctx, "the loads", `DELETE FROM loads WHERE run_id = $1 AND round >= $2`, run, round)
}
