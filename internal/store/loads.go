package store

import (
	"context"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/waterfall"
	"tidemarker/internal/trouble"
)

// SaveLoad keeps one page load that was measured, with what it asked for.
func (s *Store) SaveLoad(ctx context.Context, run int64, l measure.Load, requests []waterfall.Fetch) error {
	defer trouble.At(trouble.LoadKept)
	if requests == nil {
		requests = []waterfall.Fetch{}
	}
	return s.exec(ctx, "the load", `INSERT INTO loads (run_id, round, document, requests) VALUES ($1, $2, $3, $4)`, run, l.Round, JSON[measure.Load]{V: l}, JSON[[]waterfall.Fetch]{V: requests})
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

// LoadRequests is one load with what it asked for.
type LoadRequests struct {
	Load     JSON[measure.Load]      `db:"document"`
	Requests JSON[[]waterfall.Fetch] `db:"requests"`
}

// LoadsOfPage are the loads of one page of a run, with what they asked for.
func (s *Store) LoadsOfPage(ctx context.Context, run int64, page string) ([]LoadRequests, error) {
	return many[LoadRequests](ctx, s, "the loads", `SELECT document, requests FROM loads WHERE run_id = $1 AND document->>'page' = $2 ORDER BY id`, run, page)
}

// LoadsWithRequests are all loads of a run, with what they asked for.
func (s *Store) LoadsWithRequests(ctx context.Context, run int64) ([]LoadRequests, error) {
	return many[LoadRequests](ctx, s, "the loads", `SELECT document, requests FROM loads WHERE run_id = $1 ORDER BY id`, run)
}

// DropLoads drops what is there of a round that was cut off.
func (s *Store) DropLoads(ctx context.Context, run int64, round int) error {
	return s.exec(ctx, "the loads", `DELETE FROM loads WHERE run_id = $1 AND round >= $2`, run, round)
}

// CopyLoads gives a run the loads of another, on which it goes on.
func (s *Store) CopyLoads(ctx context.Context, from, to int64) error {
	return s.exec(ctx, "the loads", `INSERT INTO loads (run_id, round, document, requests) SELECT $2, round, document, requests FROM loads WHERE run_id = $1 ORDER BY id`, from, to)
}

// MeasuredRuns are the runs that have loads, of one site or of all (0), the latest first.
func (s *Store) MeasuredRuns(ctx context.Context, siteID int64, limit int) ([]Run, error) {
	return many[Run](ctx, s, "the runs that measured", `SELECT `+columns[Run]("")+` FROM runs r WHERE ($1 = 0 OR site_id = $1) AND EXISTS (SELECT 1 FROM loads l WHERE l.run_id = r.id) ORDER BY id DESC LIMIT $2`, siteID, limit)
}
