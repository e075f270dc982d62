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

// Onboarding is a site that somebody is adding: what is known of it so far. It can be
// left and gone on with.
type Onboarding struct {
	ID        int64                    `db:"id"`
	Name      string                   `db:"name"`
	Document  JSON[OnboardingDocument] `db:"document"`
	Tokens    JSON[map[string]string]  `db:"tokens"` // by environment; never leave the server
	MadeBy    string                   `db:"made_by"`
	MadeAt    time.Time                `db:"made_at"`
	UpdatedAt time.Time                `db:"updated_at"`
}

// OnboardingDocument is what a person has said and what was found.
type OnboardingDocument struct {
	Environments []site.Environment    `json:"environments"`
	Tests        []OnboardingTest      `json:"tests"`
	Survey       SurveyProgress        `json:"survey"`
	Pages        []survey.Found        `json:"pages"`
	Personas     []site.Persona        `json:"personas"`
	Journeys     []journey.Journey     `json:"journeys"`
	Publishing   []site.PublishingTest `json:"publishing"`
}

// Looks is who looks and what has to work, as far as it is known, as a site.
func (d OnboardingDocument) Looks() site.Site {
	return site.Site{Environments: d.Environments, Personas: d.Personas, Journeys: d.Journeys, Publishing: d.Publishing}
}

// SetLooks takes over where the site is, who looks and what has to work.
func (d *OnboardingDocument) SetLooks(s site.Site) {
	d.Environments, d.Personas, d.Journeys, d.Publishing = s.Environments, s.Personas, s.Journeys, s.Publishing
}

// OnboardingTest is one thing that was tested about an environment.
type OnboardingTest struct {
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

// NewOnboarding begins to take a site on.
func (s *Store) NewOnboarding(ctx context.Context, name string, doc OnboardingDocument, tokens map[string]string, who string) (int64, error) {
	if err := s.sealOnboarding(&doc, &tokens); err != nil {
		return 0, err
	}
	return s.insert(ctx, "the site being added", `INSERT INTO onboardings (name, document, tokens, made_by) VALUES ($1, $2, $3, $4) RETURNING id`,
		name, JSON[OnboardingDocument]{doc}, JSON[map[string]string]{tokens}, who)
}

const onboardingColumns = `id, name, document, tokens, made_by, made_at, updated_at`

// Onboarding reads one.
func (s *Store) Onboarding(ctx context.Context, id int64) (Onboarding, error) {
	t, err := one[Onboarding](ctx, s, fmt.Sprintf("site being added %d", id), `SELECT `+onboardingColumns+` FROM onboardings WHERE id = $1`, id)
	if err != nil {
		return t, err
	}
	return t, s.openOnboarding(&t)
}

// Onboardings lists them, the latest first.
func (s *Store) Onboardings(ctx context.Context) ([]Onboarding, error) {
	list, err := many[Onboarding](ctx, s, "the sites being added", `SELECT `+onboardingColumns+` FROM onboardings ORDER BY updated_at DESC LIMIT 50`)
	for i := range list {
		err = errors.Join(err, s.openOnboarding(&list[i]))
	}
	return list, err
}

// ChangeOnboarding changes what is known of a site being added, one change after the
// other, so that a survey and people do not undo each other's. An error of change
// leaves everything as it was.
func (s *Store) ChangeOnboarding(ctx context.Context, id int64, change func(*Onboarding) error) (Onboarding, error) {
	var t Onboarding
	err := s.inTx(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &t, `SELECT `+onboardingColumns+` FROM onboardings WHERE id = $1 FOR UPDATE`, id)
		if errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("site being added %d: %w", id, ErrNotFound)
		}
		if err != nil {
			return fmt.Errorf("read the site being added: %w", err)
		}
		if err := s.openOnboarding(&t); err != nil {
			return err
		}
		if err := change(&t); err != nil {
			return err
		}
		sealed := t
		if err := s.sealOnboarding(&sealed.Document.V, &sealed.Tokens.V); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE onboardings SET name = $2, document = $3, tokens = $4, updated_at = now() WHERE id = $1`, t.ID, t.Name, sealed.Document, sealed.Tokens)
		return err
	})
	return t, err
}

// SaveSurvey writes how far looking for pages has come, and nothing else.
func (s *Store) SaveSurvey(ctx context.Context, id int64, p SurveyProgress) error {
	return s.exec(ctx, "the survey", `UPDATE onboardings SET document = jsonb_set(document, '{survey}', $2::jsonb), updated_at = now() WHERE id = $1`, id, JSON[SurveyProgress]{p})
}

// DiscardOnboarding forgets one.
func (s *Store) DiscardOnboarding(ctx context.Context, id int64) error {
	return s.exec(ctx, "the site being added", `DELETE FROM onboardings WHERE id = $1`, id)
}
