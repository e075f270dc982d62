package store

import (
	"context"
	"fmt"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/trouble"
)

// SearchProblem is what a search is about.
type SearchProblem struct {
	Parts  []culprit.Part `json:"parts"`
	Needs  [][]int        `json:"needs"`
	Likely []float64      `json:"likely"`
	Most   int            `json:"most"` // answers at most
}

// Problem is the same as the search takes it.
func (p SearchProblem) Problem() culprit.Problem {
	return culprit.Problem{N: len(p.Parts), Likely: p.Likely, Needs: p.Needs, Most: p.Most}
}

// Search is a search for what in a change breaks a site.
type Search struct {
	RunID   int64               `db:"run_id"`
	OfRunID int64               `db:"of_run_id"` // that found it
	Base    string              `db:"base"`      // fingerprint of the settings before the change
	Problem JSON[SearchProblem] `db:"problem"`
	Step    JSON[culprit.Step]  `db:"step"`
	// Exclusions are the searches for the fewest exclusions, one for each culprit that has a list.
	Exclusions JSON[[]culprit.Excluding] `db:"exclusions"`
	Enough     bool                      `db:"enough"`
}

// SearchAnswer is what trying some parts of a change came to.
type SearchAnswer struct {
	RunID       int64           `db:"run_id"`
	Ordinal     int             `db:"ordinal"`   // from 1
	Excluding   int             `db:"excluding"` // which search for exclusions it is of; -1 for the culprit
	Parts       JSON[[]int]     `db:"parts"`     // of the change, or candidates that are excluded
	Fingerprint string          `db:"fingerprint"`
	Outcome     culprit.Outcome `db:"outcome"`
	Rest        bool            `db:"rest"`        // looked at everywhere: all but the culprits found so far, or with exclusions
	Looked      JSON[[]string]  `db:"looked"`      // where it was looked for; nil for everywhere
	Findings    JSON[[]string]  `db:"findings"`    // fingerprints of what showed
	Shown       int             `db:"shown"`       // rounds of looks that showed it
	Rounds      int             `db:"rounds"`      // rounds of looks
	FromRunID   *int64          `db:"from_run_id"` // an earlier run that knew
	Why         string          `db:"why"`         // it could not be decided
	Seconds     float64         `db:"seconds"`
}

// SaveSearch records what a run searches.
func (s *Store) SaveSearch(ctx context.Context, x Search) error {
	return s.exec(ctx, "the search", `INSERT INTO searches (run_id, of_run_id, base, problem) VALUES ($1, $2, $3, $4)`, x.RunID, x.OfRunID, x.Base, x.Problem)
}

// Search reads the search of a run.
func (s *Store) Search(ctx context.Context, run int64) (Search, error) {
	return one[Search](ctx, s, fmt.Sprintf("the search of run %d", run), `SELECT run_id, of_run_id, base, problem, step, exclusions, enough FROM searches WHERE run_id = $1`, run)
}

// SaveSearchStep records how a search stands.
func (s *Store) SaveSearchStep(ctx context.Context, run int64, step culprit.Step) error {
	return s.exec(ctx, "the search", `UPDATE searches SET step = $2 WHERE run_id = $1`, run, JSON[culprit.Step]{V: step})
}

// SaveExclusions records how the searches for the fewest exclusions stand.
func (s *Store) SaveExclusions(ctx context.Context, run int64, list []culprit.Excluding) error {
	return s.exec(ctx, "the search", `UPDATE searches SET exclusions = $2 WHERE run_id = $1`, run, JSON[[]culprit.Excluding]{V: list})
}

// EndSearch asks a search to end with what it knows.
func (s *Store) EndSearch(ctx context.Context, run int64) error {
	return s.exec(ctx, "the search", `UPDATE searches SET enough = true WHERE run_id = $1`, run)
}

// SaveSearchAnswer records an answer, the next of its search.
func (s *Store) SaveSearchAnswer(ctx context.Context, a SearchAnswer) error {
	defer trouble.At(trouble.AnswerKept)
	return s.exec(ctx, "the answer", `INSERT INTO search_answers (run_id, ordinal, excluding, parts, fingerprint, outcome, rest, findings, shown, rounds, from_run_id, why, seconds, looked)
		SELECT $1, coalesce(max(ordinal), 0) + 1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13 FROM search_answers WHERE run_id = $1`,
		a.RunID, a.Excluding, a.Parts, a.Fingerprint, a.Outcome, a.Rest, a.Findings, a.Shown, a.Rounds, a.FromRunID, a.Why, a.Seconds, a.Looked)
}

// SearchAnswers lists a search's answers in the order in which they came.
func (s *Store) SearchAnswers(ctx context.Context, run int64) ([]SearchAnswer, error) {
	return many[SearchAnswer](ctx, s, "the answers", `SELECT `+columns[SearchAnswer]("")+`
		FROM search_answers WHERE run_id = $1 ORDER BY ordinal`, run)
}

// SearchesOf lists the runs that searched what a run found, the latest first.
func (s *Store) SearchesOf(ctx context.Context, run int64) ([]int64, error) {
	return many[int64](ctx, s, "the searches", `SELECT run_id FROM searches WHERE of_run_id = $1 ORDER BY run_id DESC`, run)
}

// KnownOf is the latest finished try or check that held some settings of an environment against
// a mark, which came to clear or broken; [ErrNotFound] when there is none.
func (s *Store) KnownOf(ctx context.Context, env, mark int64, fingerprint string) (Run, error) {
	return one[Run](ctx, s, "an earlier run with these settings", `SELECT `+columns[Run]("")+` FROM runs WHERE environment_id = $1 AND mark_id = $2 AND target = $3
		AND kind IN ('try', 'check') AND state = 'done' AND verdict IN ('clear', 'broken') ORDER BY id DESC LIMIT 1`, env, mark, fingerprint)
}

// SearchedBefore is the latest decided answer of a search for what the same run found,
// looked at everywhere when that is asked for; one that something showed, or that looked at all of these places.
// [ErrNotFound] when there is none.
func (s *Store) SearchedBefore(ctx context.Context, ofRun int64, fingerprint string, everywhere bool, places []string) (SearchAnswer, error) {
	return one[SearchAnswer](ctx, s, "an earlier answer", `SELECT `+columns[SearchAnswer]("a")+`
		FROM search_answers a JOIN searches x ON x.run_id = a.run_id WHERE x.of_run_id = $1 AND a.fingerprint = $2 AND (a.rest OR NOT $3) AND a.outcome <> 'undecided'
		AND (a.outcome = 'fails' OR a.looked IS NULL OR a.looked = 'null' OR a.looked @> $4) ORDER BY a.run_id DESC, a.ordinal DESC LIMIT 1`, ofRun, fingerprint, everywhere, JSON[[]string]{places})
}
