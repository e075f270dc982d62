package store

import (
	"context"
	"fmt"

	"tidemarker/internal/core/prediction"
)

// Predicted is what was predicted of a run's settings and what became of it.
type Predicted struct {
	RunID  int64                   `db:"run_id"`
	Record JSON[prediction.Record] `db:"record"`
}

// SavePredicted records what was predicted of a run, anew when it was taken up again.
func (s *Store) SavePredicted(ctx context.Context, run int64, r prediction.Record) error {
	return s.exec(ctx, "what was predicted", `INSERT INTO predictions (run_id, record) VALUES ($1, $2) ON CONFLICT (run_id) DO UPDATE SET record = excluded.record`, run, JSON[prediction.Record]{V: r})
}

// Predicted reads what was predicted of a run.
func (s *Store) Predicted(ctx context.Context, run int64) (Predicted, error) {
	return one[Predicted](ctx, s, fmt.Sprintf("what was predicted of run %d", run), `SELECT run_id, record FROM predictions WHERE run_id = $1`, run)
}

// SitePredicted are what was predicted of a site's latest runs, the latest first.
func (s *Store) SitePredicted(ctx context.Context, siteID int64, limit int) ([]Predicted, error) {
	return many[Predicted](ctx, s, "what was predicted", `SELECT f.run_id, f.record FROM predictions f JOIN runs r ON r.id = f.run_id WHERE r.site_id = $1 ORDER BY f.run_id DESC LIMIT $2`, siteID, limit)
}
