package store

import (
	"context"
	"fmt"
	"time"

	"tidemarker/internal/core/evidence"
)

// Decision is a difference that somebody accepted for longer than one run.
type Decision struct {
	ID         int64                   `db:"id"`
	SiteID     int64                   `db:"site_id"`
	ChangeID   *int64                  `db:"change_id"`  // for the runs of this change only
	FindingID  *int64                  `db:"finding_id"` // the one that it was decided on
	Difference JSON[evidence.Accepted] `db:"difference"`
	Until      *time.Time              `db:"until"` // its last day; nil as long as the change lives
	Who        string                  `db:"who"`
	Why        string                  `db:"why"`
	MadeAt     time.Time               `db:"made_at"`
	EndedAt    *time.Time              `db:"ended_at"`
	EndedBy    string                  `db:"ended_by"`
}

const decisionColumns = `id, site_id, change_id, finding_id, difference, until, who, why, made_at, ended_at, ended_by`

// SaveDecision records a decision.
func (s *Store) SaveDecision(ctx context.Context, d Decision) error {
	return s.exec(ctx, "the decision", `INSERT INTO decisions (site_id, change_id, finding_id, difference, until, who, why) VALUES ($1, $2, $3, $4, $5, $6, $7)`,
		d.SiteID, d.ChangeID, d.FindingID, d.Difference, d.Until, d.Who, d.Why)
}

// DecisionsFor are those that hold for a run: of its change, or of the site, and not over.
func (s *Store) DecisionsFor(ctx context.Context, siteID int64, changeID *int64) ([]Decision, error) {
	return many[Decision](ctx, s, "the decisions", `SELECT `+decisionColumns+` FROM decisions
		WHERE site_id = $1 AND (change_id IS NULL OR change_id = $2) AND ended_at IS NULL AND (until IS NULL OR until >= current_date) ORDER BY id`, siteID, changeID)
}

// Decisions lists a site's, those that hold first.
func (s *Store) Decisions(ctx context.Context, siteID int64) ([]Decision, error) {
	return many[Decision](ctx, s, "the decisions", `SELECT `+decisionColumns+` FROM decisions WHERE site_id = $1
		ORDER BY (ended_at IS NULL AND (until IS NULL OR until >= current_date)) DESC, id DESC LIMIT 500`, siteID)
}

// EndDecision ends one that holds.
func (s *Store) EndDecision(ctx context.Context, id int64, who string) (Decision, error) {
	return one[Decision](ctx, s, fmt.Sprintf("decision %d, still in force,", id), `UPDATE decisions SET ended_at = now(), ended_by = $2 WHERE id = $1 AND ended_at IS NULL RETURNING `+decisionColumns, id, who)
}

// EndDecisionsOn ends those that were made on a finding.
func (s *Store) EndDecisionsOn(ctx context.Context, findingID int64, who string) error {
	_, err := many[int64](ctx, s, "the decisions", `UPDATE decisions SET ended_at = now(), ended_by = $2 WHERE finding_id = $1 AND ended_at IS NULL RETURNING id`, findingID, who)
	return err
}
