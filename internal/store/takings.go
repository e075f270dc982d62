package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/survey"
)

// Taking is a site that somebody is taking on: what is known of it so far. It can be
// left and gone on with.
type Taking struct {
	ID        int64                   `db:"id"`
	Name      string                  `db:"name"`
	Document  JSON[TakingDocument]    `db:"document"`
	Tokens    JSON[map[string]string] `db:"tokens"` // by environment; never leave the server
	MadeBy    string                  `db:"made_by"`
	MadeAt    time.Time               `db:"made_at"`
	UpdatedAt time.Time               `db:"updated_at"`
}

// TakingDocument is what a person has said and what was found.
type TakingDocument struct {
	Environments []site.Environment `json:"environments"`
	Tests        []TakingTest       `json:"tests"`
	Survey       SurveyProgress     `json:"survey"`
	Pages        []survey.Found     `json:"pages"`
	Personas     []site.Persona     `json:"personas"`
	Journeys     []journey.Journey  `json:"journeys"`
	Edits        []site.Publication `json:"edits"`
}

// Looks is who looks and what has to work, as far as it is known, as a site.
func (d TakingDocument) Looks() site.Site {
	return site.Site{Environments: d.Environments, Personas: d.Personas, Journeys: d.Journeys, Edits: d.Edits}
}

// SetLooks takes over where the site is, who looks and what has to work.
func (d *TakingDocument) SetLooks(s site.Site) {
	d.Environments, d.Personas, d.Journeys, d.Edits = s.Environments, s.Personas, s.Journeys, s.Edits
}

// TakingTest is one thing that was tested about an environment.
type TakingTest struct {
	Environment string `json:"environment"`
	What        string `json:"what"`
	OK          bool   `json:"ok"`
	Text        string `json:"text"`
}

// SurveyProgress is how far looking for pages has come.
type SurveyProgress struct {
	State  string   `json:"state" enum:",running,done,failed"`
	Listed int      `json:"listed" doc:"Addresses that the sitemap or links named."`
	Done   int      `json:"done"`
	Wanted int      `json:"wanted"`
	Notes  []string `json:"notes"`
}

// NewTaking begins to take a site on.
func (s *Store) NewTaking(ctx context.Context, name string, doc TakingDocument, tokens map[string]string, who string) (int64, error) {
	return s.insert(ctx, "the site being taken on", `INSERT INTO takings (name, document, tokens, made_by) VALUES ($1, $2, $3, $4) RETURNING id`,
		name, JSON[TakingDocument]{doc}, JSON[map[string]string]{tokens}, who)
}

const takingColumns = `id, name, document, tokens, made_by, made_at, updated_at`

// Taking reads one.
func (s *Store) Taking(ctx context.Context, id int64) (Taking, error) {
	return one[Taking](ctx, s, fmt.Sprintf("site being taken on %d", id), `SELECT `+takingColumns+` FROM takings WHERE id = $1`, id)
}

// Takings lists them, the latest first.
func (s *Store) Takings(ctx context.Context) ([]Taking, error) {
	return many[Taking](ctx, s, "the sites being taken on", `SELECT `+takingColumns+` FROM takings ORDER BY updated_at DESC LIMIT 50`)
}

// ChangeTaking changes what is known of a site being taken on, one change after the
// other, so that a survey and people do not undo each other's. An error of change
// leaves everything as it was.
func (s *Store) ChangeTaking(ctx context.Context, id int64, change func(*Taking) error) (Taking, error) {
	var t Taking
	err := s.inTx(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &t, `SELECT `+takingColumns+` FROM takings WHERE id = $1 FOR UPDATE`, id)
		if errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("site being taken on %d: %w", id, ErrNotFound)
		}
		if err != nil {
			return fmt.Errorf("read the site being taken on: %w", err)
		}
		if err := change(&t); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE takings SET name = $2, document = $3, tokens = $4, updated_at = now() WHERE id = $1`, t.ID, t.Name, t.Document, t.Tokens)
		return err
	})
	return t, err
}

// SaveSurvey writes how far looking for pages has come, and nothing else.
func (s *Store) SaveSurvey(ctx context.Context, id int64, p SurveyProgress) error {
	return s.exec(ctx, "the survey", `UPDATE takings SET document = jsonb_set(document, '{survey}', $2::jsonb), updated_at = now() WHERE id = $1`, id, JSON[SurveyProgress]{p})
}

// DropTaking forgets one.
func (s *Store) DropTaking(ctx context.Context, id int64) error {
	return s.exec(ctx, "the site being taken on", `DELETE FROM takings WHERE id = $1`, id)
}
