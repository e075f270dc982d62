package store

import (
	"context"
	"fmt"

	"tidemarker/internal/core/foresight"
)

// Foresight is what was foreseen of a run's settings and what became of it.
type Foresight struct {
	RunID  int64                  `db:"run_id"`
	Record JSON[foresight.Record] `db:"record"`
}

// SaveForesight records what was foreseen of a run, anew when it was taken up again.
func (s *Store) SaveForesight(ctx context.Context, run int64, r foresight.Record) error {
	return s.exec(ctx, "what was predicted", `INSERT INTO foresights (run_id, record) VALUES ($1, $2) ON CONFLICT (run_id) DO UPDATE SET record = excluded.record`, run, JSON[foresight.Record]{V: r})
}

// Foresight reads what was foreseen of a run.
func (s *Store) Foresight(ctx context.Context, run int64) (Foresight, error) {
	return one[Foresight](ctx, s, fmt.Sprintf("what was predicted of run %d", run), `SELECT run_id, record FROM foresights WHERE run_id = $1`, run)
}

// SiteForesights are what was foreseen of a site's latest runs, the latest first.
func (s *Store) SiteForesights(ctx context.Context, siteID int64, limit int) ([]Foresight, error) {
	return many[Foresight](ctx, s, "what was predicted", `SELECT f.run_id, f.record FROM foresights f JOIN runs r ON r.id = f.run_id WHERE r.site_id = $1 ORDER BY f.run_id DESC LIMIT $2`, siteID, limit)
}
