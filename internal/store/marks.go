package store

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"time"

	"tidemarker/internal/core/evidence"
)

// VolatilePage is what changes by itself on one page, as it is kept.
type VolatilePage struct {
	Key      evidence.Key      `json:"key"`
	Volatile evidence.Volatile `json:"volatile"`
}

// Renewal is one part of a mark's evidence that was made anew since: the site itself had
// moved on. The newest of a key counts.
type Renewal struct {
	Key  evidence.Key `json:"key"`
	Run  int64        `json:"run"`  // that looked
	Pass int          `json:"pass"` // in which it did so with the mark's settings, or those before its change
	Why  string       `json:"why"`
}

// Mark is a revision of one environment together with the evidence that it works.
type Mark struct {
	ID            int64                  `db:"id"`
	EnvironmentID int64                  `db:"environment_id"`
	RunID         int64                  `db:"run_id"`
	Fingerprint   string                 `db:"fingerprint"`
	Volatile      JSON[[]VolatilePage]   `db:"volatile"`
	Probes        JSON[[]evidence.Probe] `db:"probes"` // of the second look
	Renewed       JSON[[]Renewal]        `db:"renewed"`
	Reason        string                 `db:"reason"`
	Who           string                 `db:"who"`
	TakenAt       time.Time              `db:"taken_at"`
}

// SaveMark records a place to go back to.
func (s *Store) SaveMark(ctx context.Context, m Mark) (int64, error) {
	return s.insert(ctx, "the mark", `INSERT INTO marks (environment_id, run_id, fingerprint, volatile, probes, reason, who) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id`,
		m.EnvironmentID, m.RunID, m.Fingerprint, m.Volatile, m.Probes, m.Reason, m.Who)
}

// Mark reads one mark.
func (s *Store) Mark(ctx context.Context, id int64) (Mark, error) {
	return one[Mark](ctx, s, fmt.Sprintf("mark %d", id), `SELECT `+columns[Mark]("")+` FROM marks WHERE id = $1`, id)
}

// Marks lists an environment's marks whose evidence is there, the latest first.
func (s *Store) Marks(ctx context.Context, envID int64, limit int) ([]Mark, error) {
	return many[Mark](ctx, s, "the marks", `SELECT `+columns[Mark]("")+` FROM marks m WHERE environment_id = $1 AND NOT EXISTS (SELECT FROM runs r WHERE r.id = m.run_id AND r.evidence_gone_at IS NOT NULL) ORDER BY id DESC LIMIT $2`, envID, limit)
}

// LatestMark is an environment's newest mark.
func (s *Store) LatestMark(ctx context.Context, envID int64) (Mark, error) {
	return one[Mark](ctx, s, "a mark of the environment", `SELECT `+columns[Mark]("")+` FROM marks WHERE environment_id = $1 ORDER BY id DESC LIMIT 1`, envID)
}

// DrawnOtherwise is what runs since a mark say of its pictures when they could not be compared
// with it; "" when they could.
func (s *Store) DrawnOtherwise(ctx context.Context, m Mark) (string, error) {
	says, err := many[string](ctx, s, "what was not compared", `SELECT f.document->>'detail' FROM runs r JOIN findings f ON f.run_id = r.id
		WHERE r.environment_id = $1 AND r.id > $2 AND f.document->>'kind' = $3 AND f.document->>'part' = $4 ORDER BY f.id DESC LIMIT 1`,
		m.EnvironmentID, m.RunID, evidence.NotCheckedKind, evidence.RendererCause)
	return strings.Join(says, ""), err
}

// RendererOf is what drew the pictures of a mark, as it is called; "" when that is not known.
func (s *Store) RendererOf(ctx context.Context, m Mark) (string, error) {
	names, err := many[string](ctx, s, "what drew the pictures", `SELECT coalesce(document->'renderer'->>'browser', '') FROM looks WHERE run_id = $1 AND pass = 1 AND kind = 'page' ORDER BY id LIMIT 1`, m.RunID)
	return strings.Join(names, ""), err
}

// Baseline reads the evidence of a mark as it is now.
func (s *Store) Baseline(ctx context.Context, m Mark) (evidence.Baseline, error) {
	return s.BaselineBefore(ctx, m, math.MaxInt64)
}

// BaselineBefore reads the evidence of a mark as a run compared with it: without what that
// run and later ones renewed.
func (s *Store) BaselineBefore(ctx context.Context, m Mark, run int64) (evidence.Baseline, error) {
	look, err := s.Look(ctx, m.RunID, 1)
	if err != nil {
		return evidence.Baseline{}, fmt.Errorf("read the evidence of mark %d: %w", m.ID, err)
	}
	for _, r := range m.Renewed.V {
		if r.Run >= run {
			continue
		}
		newer, err := s.pageLook(ctx, r)
		if err != nil {
			return evidence.Baseline{}, fmt.Errorf("read the renewed evidence of mark %d: %w", m.ID, err)
		}
		look = look.With(newer)
	}
	b := evidence.NewBaseline(look, m.Probes.V)
	for _, r := range m.Volatile.V {
		b.Volatile[r.Key] = r.Volatile
	}
	return b, nil
}

// RenewMark takes newer evidence into a mark.
func (s *Store) RenewMark(ctx context.Context, id int64, renewed []Renewal) error {
	return s.exec(ctx, "the mark", `UPDATE marks SET renewed = renewed || $2::jsonb WHERE id = $1`, id, JSON[[]Renewal]{renewed})
}

func (s *Store) pageLook(ctx context.Context, r Renewal) (evidence.PageLook, error) {
	row, err := one[LookRow](ctx, s, "the look", `SELECT `+columns[LookRow]("")+` FROM looks WHERE run_id = $1 AND pass = $2 AND kind = 'page' AND page = $3 AND persona = $4 AND device = $5 ORDER BY id DESC LIMIT 1`,
		r.Run, r.Pass, r.Key.Page, r.Key.Persona, r.Key.Device)
	if err != nil {
		return evidence.PageLook{}, err
	}
	var p evidence.PageLook
	return p, json.Unmarshal(row.Document, &p)
}
