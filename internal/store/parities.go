package store

import (
	"context"
	"time"

	"tidemarker/internal/core/survey"
)

// Parity is in what a site's first and last environment differ.
type Parity struct {
	SiteID   int64                `db:"site_id"`
	Document JSON[ParityDocument] `db:"document"`
	Who      string               `db:"who"`
	At       time.Time            `db:"at"`
}

// ParityDocument is what a comparison of two environments found.
type ParityDocument struct {
	Summary string          `json:"summary"`
	Unlike  []survey.Unlike `json:"unlike"`
	Notes   []string        `json:"notes" doc:"What could not be compared."`
}

// SaveParity keeps what was found, in place of what was found before.
func (s *Store) SaveParity(ctx context.Context, siteID int64, d ParityDocument, who string) error {
	return s.exec(ctx, "the parity", `INSERT INTO parities (site_id, document, who) VALUES ($1, $2, $3)
		ON CONFLICT (site_id) DO UPDATE SET document = EXCLUDED.document, who = EXCLUDED.who, at = now()`, siteID, JSON[ParityDocument]{d}, who)
}

// ParityOf is what was last found; ErrNotFound when nothing was compared yet.
func (s *Store) ParityOf(ctx context.Context, siteID int64) (Parity, error) {
	return one[Parity](ctx, s, "the parity", `SELECT `+columns[Parity]("")+` FROM parities WHERE site_id = $1`, siteID)
}
