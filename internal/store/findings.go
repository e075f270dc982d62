package store

import (
	"context"
	"fmt"
	"time"

	"tidemarker/internal/core/evidence"
)

// Finding is one finding of a run.
type Finding struct {
	ID          int64                  `db:"id"`
	RunID       int64                  `db:"run_id"`
	Name        string                 `db:"name"`
	Place       int                    `db:"place"`
	State       string                 `db:"state"` // open, accepted
	Document    JSON[evidence.Finding] `db:"document"`
	AcceptedBy  string                 `db:"accepted_by"`
	AcceptedWhy string                 `db:"accepted_why"`
	AcceptedAt  *time.Time             `db:"accepted_at"`
}

// SaveFindings keeps exactly these findings of a run, in their order. One that is there
// already keeps its number, and with it what refers to it.
func (s *Store) SaveFindings(ctx context.Context, runID int64, findings []evidence.Finding) error {
	type row struct {
		Name     string           `json:"name"`
		Document evidence.Finding `json:"document"`
	}
	rows, names, times := []row{}, []string{}, map[string]int{}
	for _, f := range findings {
		name := f.Fingerprint
		if times[f.Fingerprint]++; times[f.Fingerprint] > 1 {
			name = fmt.Sprintf("%s %d", f.Fingerprint, times[f.Fingerprint])
		}
		rows, names = append(rows, row{name, f}), append(names, name)
	}
	return s.Within(ctx, func(s *Store) error {
		if err := s.exec(ctx, "the findings", `DELETE FROM findings WHERE run_id = $1 AND name <> ALL($2)`, runID, names); err != nil {
			return err
		}
		return s.exec(ctx, "the findings", `INSERT INTO findings (run_id, name, place, document)
			SELECT $1, f.row->>'name', f.place, f.row->'document' FROM jsonb_array_elements($2::jsonb) WITH ORDINALITY f(row, place)
			ON CONFLICT (run_id, name) DO UPDATE SET place = excluded.place, document = excluded.document`, runID, JSON[[]row]{rows})
	})
}

// Findings lists a run's findings in their order.
func (s *Store) Findings(ctx context.Context, runID int64) ([]Finding, error) {
	return many[Finding](ctx, s, "the findings", `SELECT `+columns[Finding]("")+` FROM findings WHERE run_id = $1 ORDER BY place, id`, runID)
}

// Finding reads one finding.
func (s *Store) Finding(ctx context.Context, id int64) (Finding, error) {
	return one[Finding](ctx, s, fmt.Sprintf("finding %d", id), `SELECT `+columns[Finding]("")+` FROM findings WHERE id = $1`, id)
}

// AcceptFinding records that a person takes a finding as meant, or takes that back.
func (s *Store) AcceptFinding(ctx context.Context, id int64, accepted bool, who, why string) error {
	if !accepted {
		return s.exec(ctx, "the finding", `UPDATE findings SET state = 'open', accepted_by = '', accepted_why = '', accepted_at = NULL WHERE id = $1`, id)
	}
	return s.exec(ctx, "the finding", `UPDATE findings SET state = 'accepted', accepted_by = $2, accepted_why = $3, accepted_at = now() WHERE id = $1`, id, who, why)
}
