package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/trouble"
)

// LookRow is one look as it is kept.
type LookRow struct {
	ID       int64           `db:"id"`
	RunID    int64           `db:"run_id"`
	Pass     int             `db:"pass"`
	Kind     string          `db:"kind"` // page, journey, probe
	Page     string          `db:"page"`
	Journey  string          `db:"journey"`
	Persona  string          `db:"persona"`
	Device   string          `db:"device"`
	Document json.RawMessage `db:"document"`
	MadeAt   time.Time       `db:"made_at"`
}

// SaveLook keeps one look of a pass: an evidence.PageLook, JourneyLook or Probe.
func (s *Store) SaveLook(ctx context.Context, runID int64, pass int, kind string, k evidence.Key, document any) error {
	defer trouble.At(trouble.LookKept)
	raw, err := json.Marshal(document)
	if err != nil {
		return fmt.Errorf("write a look: %w", err)
	}
	return s.exec(ctx, "a look", `INSERT INTO looks (run_id, pass, kind, page, journey, persona, device, document) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
		runID, pass, kind, k.Page, k.Journey, k.Persona, k.Device, string(raw))
}

// LookRows lists a run's looks of one pass with their documents, in the order in which
// they were kept.
func (s *Store) LookRows(ctx context.Context, runID int64, pass int) ([]LookRow, error) {
	return many[LookRow](ctx, s, "the looks", `SELECT `+columns[LookRow]("")+` FROM looks WHERE run_id = $1 AND pass = $2 ORDER BY id`, runID, pass)
}

// Look reads everything seen in one pass of a run.
func (s *Store) Look(ctx context.Context, runID int64, pass int) (evidence.Look, error) {
	rows, err := s.LookRows(ctx, runID, pass)
	if err != nil {
		return evidence.Look{}, err
	}
	var out evidence.Look
	for _, r := range rows {
		switch r.Kind {
		case "page":
			var p evidence.PageLook
			err = json.Unmarshal(r.Document, &p)
			out.Pages = append(out.Pages, p)
		case "journey":
			var j evidence.JourneyLook
			err = json.Unmarshal(r.Document, &j)
			out.Journeys = append(out.Journeys, j)
		case "probe":
			var p evidence.Probe
			err = json.Unmarshal(r.Document, &p)
			out.Probes = append(out.Probes, p)
		}
		if err != nil {
			return evidence.Look{}, fmt.Errorf("read look %d: %w", r.ID, err)
		}
	}
	return out, nil
}

// LookNames lists what a run looked at in all its passes, without the documents.
func (s *Store) LookNames(ctx context.Context, runID int64) ([]LookRow, error) {
	return many[LookRow](ctx, s, "the looks", `SELECT id, run_id, pass, kind, page, journey, persona, device, made_at FROM looks WHERE run_id = $1 ORDER BY pass, id`, runID)
}
